"""Looking at a layout's work: which bytes it explains, the proof, and a first layout for an unknown file."""
