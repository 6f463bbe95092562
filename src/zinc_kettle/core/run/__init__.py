"""A run as it goes on: decisions, the order of its steps, how often cells are repeated, and when that is enough.

Here: pure functions of the plan and its log. Not here: who carries them out (session).
May import: core.plan.study, core.stats.
"""
