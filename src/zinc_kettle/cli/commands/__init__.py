"""The commands, a file each: what it is called, its arguments as `command`, its `EXAMPLES`, and what it does."""
