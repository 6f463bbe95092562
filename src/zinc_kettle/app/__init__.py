"""Use cases: everything a person can do, as services of their own; and the choice of real adapters (`build`).

Here: functions and small services, with the views they hand out. Not here: a widget, a key, a line that is printed.
May import: every room but tui and cli.
"""
