"""Exchanges on the wire: transport, sign-in, messages, media types, redaction. Knows no definition format."""
