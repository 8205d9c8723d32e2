"""The Port of Merrow, a made-up harbour: stand-in services to try everything on. Shares no code with the
checkers.
"""
