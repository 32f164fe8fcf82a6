"""The fuzzer: `python3 dev.py fuzz [--mode MODE] [--minutes N | --count N]`.

A mode is a module with `NAME`, and `cases(folder, rng)`: an endless row of attempts. An attempt says what it is, and
what went wrong in it; it comes with bytes that repeat it. Anything but one of our errors is a fault, and so is taking
too long or too much memory. Mutants: archives, data, exchange, layouts, pictures, sounds, movies, models, states, packs
(mods and game packs), commands (whole ones, one damaged file among others), bombs (processes with bounded memory and
time). Interruptions: kills, full.
"""
