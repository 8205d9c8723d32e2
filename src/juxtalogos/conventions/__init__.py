"""The English words by which people name things: one table, which a workspace extends
with words of its own.
"""
