"""What is kept of a request and of a repeat.

Here: timelines, repeats, telemetry, values with bounds. Not here: figures made of them (measures).
May import: core's own leaves.
"""
