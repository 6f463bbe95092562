"""What is wrong or doubtful about a plan, and which decisions about a run make sense.

Here: problems with their places. Not here: the plan itself (plan).
May import: core.
"""
