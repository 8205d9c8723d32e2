"""What a request may change: only what the run made, and what is written back afterwards."""
