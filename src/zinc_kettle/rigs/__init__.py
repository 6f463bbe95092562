"""The machine things run on: facts, processor and memory while an episode runs, what the file cache holds.

Here: reading this machine. Not here: starting engines (engines), keeping what was read (store).
May import: zinc_kettle.ports, core, errors, psutil, cpuinfo.
"""
