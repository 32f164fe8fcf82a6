"""Side-by-side measurements: Volvex and the system's own tools on the same content, in one run.

`python3 dev.py measure` makes what is needed in benchmarks/work (about 3 GB, kept for the next run), times both
sides in turn as whole processes, and prints the medians as ratios. The figures go to benchmarks/results.json.
"""
