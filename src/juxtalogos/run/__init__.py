"""Running: judging exchanges, resolving targets, executing suites."""
