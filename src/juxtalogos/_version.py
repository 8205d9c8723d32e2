"""The version, apart so that `--version` loads nothing else."""

VERSION = "0.1.0"
