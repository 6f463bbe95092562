"""Pure drawing: values in, rich text out; no widget, no app."""
