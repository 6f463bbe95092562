"""Bundles: runs in one file, for another copy of the tool; checked before anything of one is believed.

Here: the archive and its list, the parts of a run, requests and traces as Parquet.
Not here: what becomes of them (app), the store.
May import: as formats.
"""
