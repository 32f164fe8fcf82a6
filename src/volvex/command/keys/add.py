"""Add a secret to your key file, under a name.

The secret is asked for without being shown, or comes from a file (--file), or from standard input when that is no
terminal. It is text, or with --hex pairs of digits. The key file is yours alone; layouts, game descriptions, benches and mods
only name hashes. Blanks and line ends around the secret are kept, and told: when it does not open something as it is,
it is tried without them.
"""

from __future__ import annotations

import argparse
import sys
from pathlib import Path

from volvex.archive.key_file import add_key
from volvex.command.ui.context import Context
from volvex.errors import NotFoundError, Status, UsageError
from volvex.layout.keyring import Key

PRIORITY = 55
EXAMPLES = ()
LONGEST = 1 << 16


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("name", metavar="NAME", help="how layouts, game descriptions and you call the key")
    parser.add_argument("--file", type=Path, metavar="FILE", help="the secret is what this file holds")
    parser.add_argument("--hex", action="store_true", help="the secret is given as pairs of hexadecimal digits")


def run(options: argparse.Namespace, context: Context) -> int:
    secret = _secret(options, context)
    if options.hex:
        try:
            secret = bytes.fromhex(secret.decode())
        except ValueError:
            raise UsageError(
                "what was given is not pairs of hexadecimal digits", "leaving --hex out when it is text"
            ) from None
    if not secret or len(secret) > LONGEST:
        raise UsageError(
            "there is no secret in what was given" if not secret else f"a secret of more than {LONGEST} bytes"
        )
    key = Key(options.name, secret)
    if not options.hex and key.bare != secret:
        context.note("note: there is a blank or a line end around the secret; it is kept, and tried without them too")
    replaced = add_key(context.home, key, context.disk)
    context.print(f"the key {options.name} is {'replaced' if replaced else 'in your key file'}")
    return Status.OK


def _secret(options: argparse.Namespace, context: Context) -> bytes:
    if options.file is not None:
        if not options.file.is_file():
            raise NotFoundError(f"there is no file {options.file}")
        return bytes(options.file.read_bytes()[: LONGEST + 1])
    if not sys.stdin.isatty():
        return sys.stdin.buffer.read(LONGEST + 1).removesuffix(b"\n").removesuffix(b"\r")
    return context.asked(f"the key {options.name}") or b""
