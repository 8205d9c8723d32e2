"""Stand-ins in the styles that real services have, each with a definition that says as much as such
definitions say.
"""
