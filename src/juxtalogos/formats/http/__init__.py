"""What paths and methods of HTTP say (RFC 9110, RFC 3986), for the formats whose
operations are made of them.
"""
