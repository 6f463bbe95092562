"""The engine recipes that come with the tool, as TOML files beside this one; see formats.recipe."""
