"""The words the tool and its driver processes say to each other, one JSON line a message.

Here: versioned message types and their coding. Not here: pipes and processes (link), sockets (driver).
May import: zinc_kettle.core, zinc_kettle.errors, msgspec, numpy.
"""
