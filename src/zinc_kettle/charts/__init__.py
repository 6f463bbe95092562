"""Figures as SVG and PDF: the same study gives the same bytes.

Here: drawing what present.figure describes. Not here: choosing what to draw, the terminal.
May import: zinc_kettle.present, core, errors, matplotlib (late: it takes a second).
"""
