"""What the figures mean: timelines, measures, statistics, cautions, the plan of a study.

Here: pure functions and frozen dataclasses over numbers and numpy arrays.
Not here: clocks, files, sockets, processes, printing; callers hand numbers in.
May import: zinc_kettle.errors, numpy, and scipy.stats late inside core.stats.
"""
