"""What is asked over HTTP beside the measuring: facts, lists, counts, metrics.

Here: requests within bounds of bytes and time, without redirects and without compression.
Not here: the requests that are measured (driver).
May import: zinc_kettle.core, errors, httpx.
"""
