"""Reports: what a document holds, and how studies, duels and lineups become one. How it looks is for formats."""
