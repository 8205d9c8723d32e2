"""Learning from a service: what it answers, and what it says when it refuses."""
