"""The command line: one command a file; only cli.output prints.

May import: everything below, through app where an adapter is needed.
"""
