"""What fits where, and how fast it may run: sizes, placement, verdict, prediction, the memory limit.

Here: arithmetic over shapes, devices and rates. Not here: reading files (formats), probing (rigs).
May import: zinc_kettle.core modules, errors, numpy.
"""
