"""The service that a run talks to: sessions, readiness, what is kept of it."""
