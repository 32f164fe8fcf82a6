"""The program `volvex`, also `python -m volvex`."""

import os
import sys


def main() -> int:
    """Run the command line; the exit status."""
    if sys.argv[1:] == ["--version"]:
        from volvex import __version__

        sys.stdout.write(f"volvex {__version__}\n")
        return 0
    if "_ARGCOMPLETE" in os.environ:  # a shell asks for completions
        from volvex.command.ui.completion import complete

        complete()
    try:
        from volvex.command.ui.main import main as run

        return run(sys.argv[1:])
    except KeyboardInterrupt:  # while modules are loaded, or the arguments looked at
        sys.stderr.write("volvex: interrupted\n")
        return 130


if __name__ == "__main__":
    sys.exit(main())
