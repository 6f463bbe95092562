"""The only place that picks real adapters for the session's ports.

Here: putting things together. Not here: logic.
May import: every room but cli.
"""
