"""The plan of a study: its declaration, factors, design, loads, engines as recipes declare them.

Here: what is planned. Not here: what is wrong with it (checks), when each cell runs (run).
May import: core's own leaves.
"""
