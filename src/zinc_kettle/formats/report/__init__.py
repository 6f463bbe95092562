"""Reports as files: HTML that needs nothing else, Markdown, PDF; and a person's own words, read as Markdown.

Here: what a document looks like in each. Not here: what it says (present), its charts (charts).
May import: as formats, and jinja2, markdown-it-py, typst, each when it is needed.
"""
