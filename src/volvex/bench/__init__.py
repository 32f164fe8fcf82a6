"""The user's work on one game: game description, game folder, workbench, changes, build.

A bench is a folder. `bench.json` says which game, what was taken from where, and the originals'
fingerprints; `files/` mirrors the game's tree, archives appearing as folders; `built/` holds what `build`
made. The rule that holds: everything starts from the game's *original* files, never from what an earlier
install put there.
"""
