"""The program `volvex`, also `python -m volvex`."""

import sys


def main() -> int:
    """Run the command line; the exit status."""
    if sys.argv[1:] == ["--version"]:
        from volvex import __version__

        sys.stdout.write(f"volvex {__version__}\n")
        return 0
    from volvex.command._main import main as run

    return run(sys.argv[1:])


if __name__ == "__main__":
    sys.exit(main())
