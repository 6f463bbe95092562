"""Keeps studies in one SQLite file: append-only measurements, written as requests finish.

Here: tables, blocks of timelines, the store. Not here: what figures mean (core), how they are told (present).
May import: zinc_kettle.ports, wire, core, errors, sqlalchemy, msgspec, numpy.
"""
