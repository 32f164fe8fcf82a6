"""Add a secret to your key file, under a name.

The secret is typed without being shown, or comes from --file, or from standard input. It is text, or pairs of
hexadecimal digits with --hex. Only you can read the key file; layouts, game descriptions, benches and mods contain only
names of keys. White space around the secret is kept and reported; when the secret does not open a file, it is also
tried without.
"""

from __future__ import annotations

import argparse
import sys
from pathlib import Path

from volvex.archive.key_file import add_key
from volvex.command.ui.context import Context
from volvex.errors import NotFoundError, Status, UsageError
from volvex.layout.keyring import Key

PRIORITY = 60
WRITES = True
EXAMPLES = ("volvex keys add kelpwick-post --file password.txt",)
LONGEST = 1 << 16


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("name", metavar="NAME", help="the name of the key in layouts and game descriptions")
    parser.add_argument("--file", type=Path, metavar="FILE", help="read the secret from this file")
    parser.add_argument("--hex", action="store_true", help="the secret is pairs of hexadecimal digits")


def run(options: argparse.Namespace, context: Context) -> int:
    secret = _secret(options, context)
    if options.hex:
        try:
            secret = bytes.fromhex(secret.decode())
        except ValueError:
            raise UsageError(
                "the secret is not pairs of hexadecimal digits", "leaving --hex out when it is text"
            ) from None
    if not secret or len(secret) > LONGEST:
        raise UsageError("the secret is empty" if not secret else f"a secret of more than {LONGEST} bytes")
    key = Key(options.name, secret)
    if not options.hex and key.bare != secret:
        context.note("note: there is white space around the secret; it is kept, and also tried without")
    replaced = add_key(context.home, key, context.disk)
    context.print(f"the key {options.name} is {'replaced' if replaced else 'in your key file'}")
    return Status.OK


def _secret(options: argparse.Namespace, context: Context) -> bytes:
    if options.file is not None and str(options.file) != "-":  # a secret on standard input goes through no file
        if not options.file.is_file():
            raise NotFoundError(f"there is no file {options.file}")
        return bytes(options.file.read_bytes()[: LONGEST + 1])
    if not sys.stdin.isatty():
        return sys.stdin.buffer.read(LONGEST + 1).removesuffix(b"\n").removesuffix(b"\r")
    return context.asked(f"the key {options.name}") or b""
