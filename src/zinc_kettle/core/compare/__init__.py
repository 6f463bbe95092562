"""Comparisons: cells, sides, duels, ladders' gains, lineups, gates; all stand on the same ratios.

Here: what is compared with what, and what is claimed. Not here: the statistics (stats).
May import: core.
"""
