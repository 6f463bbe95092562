"""Searches that decide what is measured next.

Here: the largest load that keeps a promise. Not here: who measures it (session).
May import: core.
"""
