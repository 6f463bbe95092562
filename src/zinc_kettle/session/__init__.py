"""Runs a study: calibrates prompts, starts engines, orders load, watches, keeps, goes on after failures.

Here: the order of things, over ports. Not here: any adapter, any screen.
May import: zinc_kettle.ports, wire, core, errors.
"""
