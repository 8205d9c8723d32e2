"""What an exchange says against the definition and what people wrote."""
