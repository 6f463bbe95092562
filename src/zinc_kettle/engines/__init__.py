"""Engines: how one is started, asked, and ended.

Here: the launcher process (`serve`), its recipe, ready check, last words, endpoints that already run.
Not here: sending load (driver), sampling memory (rigs).
May import: zinc_kettle.ports, core, errors, httpx; only `serve` imports an engine's own package.
"""
