"""Figures as people and programs read them: views of cells, JSON records, sentences, tables, figures to draw.

Here: pure turning of records into text and data. Not here: printing (cli), drawing (tui, charts).
May import: zinc_kettle.ports, wire, core, errors.
"""
