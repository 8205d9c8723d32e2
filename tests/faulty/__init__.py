"""Two services of which the source is changed on purpose, one place at a time, to see which changes are
found.
"""
