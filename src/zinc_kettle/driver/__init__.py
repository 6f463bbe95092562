"""The load source: a child process that sends requests and stamps every chunk before it decodes anything.

Here: sockets, HTTP framing, server-sent events, pacing, and the lines sent back.
Not here: any figure, any screen, any store. `python -m zinc_kettle.driver` is started by link.
May import: zinc_kettle.wire, core, errors, httptools, msgspec, uvloop.
"""
