"""The tool's end of a driver process: starts it, gives it orders, hands its timelines on, and ends it.

Here: the child process and its pipes. Not here: what the driver does (driver) or why (session).
May import: zinc_kettle.ports, wire, core, errors.
"""
