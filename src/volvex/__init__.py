"""Volvex opens, edits and rebuilds the archives of PC games from one description of each format.

The floors, from the ground up; each knows only those below it: `source` (where bytes come from and
go to), `codec`, `layout` (the description language), `archive` (entries and paths), `names`, `data`,
`bench` (the user's work), `mods` (into the game and back), `command` (the only one that
prints, parses arguments or reads the environment).
"""

__version__ = "0.2.0"
