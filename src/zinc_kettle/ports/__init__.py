"""Small protocols: what the session needs of the outside, each implemented above by one real adapter.

Here: one file a subject: clock, models, engines, driver, telemetry, remote, store. Not here: any implementation.
May import: zinc_kettle.wire, core, errors.
"""
