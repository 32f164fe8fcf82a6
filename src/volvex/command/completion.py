"""Print what makes a shell complete commands, options and paths.

Completed paths lead into archives. Put the output into the file that your shell reads when it starts: for bash
~/.bashrc, for zsh ~/.zshrc, for fish a file in ~/.config/fish/completions, for PowerShell your $PROFILE.
"""

from __future__ import annotations

import argparse

from volvex.command.ui.context import Context
from volvex.errors import Status

PRIORITY = 71
JSON = False  # what it prints is for people, or for a shell
EXAMPLES = ("volvex completion bash",)
SHELLS = ("bash", "zsh", "fish", "powershell")


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("shell", choices=SHELLS, help="the shell that you use")


def run(options: argparse.Namespace, context: Context) -> int:
    from argcomplete.shell_integration import shellcode

    context.print(shellcode(["volvex"], shell=options.shell))
    return Status.OK
