"""The verbs of `juxtalogos suite`: each with its own options."""
