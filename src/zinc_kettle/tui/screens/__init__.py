"""One station a folder: screen.py, its style, its help. Stations do not know each other; the app connects them."""
