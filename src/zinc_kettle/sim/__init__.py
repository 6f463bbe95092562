"""Stand-ins that ship with the tool: a paced server that emits tokens at scheduled times.

Here: simulated things, always labelled so. Not here: anything that measures.
May import: zinc_kettle.ports, wire, core, errors.
"""
