"""Small scripts that run on a rig: facts, watching, probing. Standard library only, so that nothing need be installed
where they run; the tool imports them for its own machine and sends their text to others.

Here: reading a machine's own files. Not here: anything that reaches another machine (rigs.ssh).
May import: the standard library; numpy and pynvml where they happen to be, imported late.
"""
