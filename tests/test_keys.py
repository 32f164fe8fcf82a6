"""The key file: who may read it, what is told of it, and that no secret is shown anywhere."""

from __future__ import annotations

import json
import os
import stat
import unittest

from kelpwick.words import PASSWORD
from tests.support import PROGRAM, Case, archive_of
from volvex.archive.access.open import open_source
from volvex.errors import LockedError
from volvex.layout import Library
from volvex.layout.keyring import Key, KeyRing
from volvex.layout.language.parser import parse_layout
from volvex.source import BytesSource

PLAIN = """
layout "locked" kind archive
known by "LCK1" at 0
block head at 0
    mark    4 bytes   is "LCK1"
    count   u8        count of rows
block rows after head repeats
    name    text u8   name
    start   u8        start of content
    size    u8        size of content
content wrapped in {cipher}
"""


class KeyFile(Case):
    def keys(self, *words: object, status: int = 0, input: str | None = None) -> str:
        done = self.run_program("keys", *words, status=status, input=input or "")
        return done.stdout + done.stderr

    def test_it_is_the_user_s_alone(self) -> None:
        self.keys("add", "post", input="wreckers")
        path = self.home / "keys.json"
        if os.name != "nt":
            self.assertEqual(stat.S_IMODE(path.stat().st_mode), 0o600)
        self.assertEqual(json.loads(path.read_text())["secrets"], [{"name": "post", "hex": b"wreckers".hex()}])

    def test_text_hex_and_files(self) -> None:
        (self.folder / "secret").write_bytes(b"\0\1\2")
        self.keys("add", "a", "--file", self.folder / "secret")
        self.keys("add", "b", "--hex", input="00 01 ff\n")
        self.keys("add", "c", input="letters\r\n")
        record = {one["name"]: one["hex"] for one in json.loads((self.home / "keys.json").read_text())["secrets"]}
        self.assertEqual(record, {"a": "000102", "b": "0001ff", "c": b"letters".hex()})
        self.assertIn("not pairs of hexadecimal digits", self.keys("add", "d", "--hex", input="wreckers", status=2))
        self.assertIn("secret is empty", self.keys("add", "d", input="\n", status=2))

    def test_a_stray_blank_is_told_when_it_is_added(self) -> None:
        self.assertIn("there is white space around the secret", self.keys("add", "post", input="wreckers \n"))

    def test_no_secret_is_ever_shown(self) -> None:
        self.game()
        said = self.keys("add", "kelpwick-post", input=PASSWORD)
        said += self.keys("list") + self.keys("list", "--json") + self.keys("add", "kelpwick-post", input=PASSWORD)
        for words in (
            ("survey", "game"),
            ("survey", "game", "--json"),
            ("identify", "game/post/winter.kpz", "--json"),
            ("list", "game/post/winter.kpz", "--long"),
            ("layout", "prove", "game/post"),
        ):
            done = self.run_program(*words)
            said += done.stdout + done.stderr
        work = self.bench(self.folder / "game")
        self.volvex("take", "post/winter.kpz/letters/ansa.txt", cwd=work)
        (work / "files/post/winter.kpz/letters/ansa.txt").write_text("changed")
        said += self.volvex("build", cwd=work)
        for path in (path for path in work.rglob("*") if path.is_file()):
            said += path.read_bytes().decode("latin-1")
        said += b"".join(path.read_bytes() for path in (self.home / "cache").rglob("*") if path.is_file()).decode(
            "latin-1"
        )
        for secret in (PASSWORD, PASSWORD.encode().hex(), PASSWORD.encode().hex(" ")):
            self.assertNotIn(secret, said)

    def test_without_a_key_it_is_told_which_one(self) -> None:
        self.game()
        self.assertIn("it needs the key kelpwick-post", self.run_program("survey", "game").stderr)
        done = self.run_program("show", "game/post/winter.kpz/letters/ansa.txt", status=7)
        self.assertIn("game/post/winter.kpz is locked, and you have no key", done.stderr)
        self.keys("add", "other", input="not it")
        done = self.run_program("unpack", "game/post/winter.kpz", "--to", "out", status=7)
        self.assertIn("your only key is not its key", done.stderr)

    @unittest.skipIf(os.name == "nt", "needs a pseudo-terminal")
    def test_on_a_terminal_it_is_asked_for_without_being_shown(self) -> None:
        self.game()
        said = self.typed(PASSWORD, "show", "game/post/winter.kpz/letters/ansa.txt", "--unpaged")
        self.assertIn("game/post/winter.kpz: ", said)
        self.assertIn("when the ice is in", said)
        self.assertNotIn(PASSWORD, said)
        said = self.typed(PASSWORD, "keys", "add", "kelpwick-post")
        self.assertIn("the key kelpwick-post is in your key file", said)
        self.assertNotIn(PASSWORD, said)

    def typed(self, text: str, *words: str) -> str:
        """What a person sees who types a line when asked."""
        import pty

        process, terminal = pty.fork()
        if not process:
            os.chdir(self.folder)
            os.execve(PROGRAM, [str(PROGRAM), *words], self.environment(TERM="xterm"))
        out, answered = b"", False
        while True:
            try:
                chunk = os.read(terminal, 65536)
            except OSError:
                break
            if not chunk:
                break
            out += chunk
            if not answered and out.rstrip(b"\r\n").endswith(b": "):
                os.write(terminal, f"{text}\n".encode())
                answered = True
        os.close(terminal)
        self.assertEqual(os.waitstatus_to_exitcode(os.waitpid(process, 0)[1]), 0, out)
        return out.decode()

    def test_removed(self) -> None:
        self.keys("add", "post", input="wreckers")
        self.keys("remove", "post")
        self.assertIn("you have no keys", self.keys("list"))
        self.assertIn("there is no key post", self.keys("remove", "post", status=3))

    def test_a_damaged_key_file_is_told_without_what_is_in_it(self) -> None:
        self.home.mkdir(exist_ok=True)
        (self.home / "keys.json").write_text('{"keys": 1, "secrets": [{"name": "post", "hex": "7772zz"}]}')
        said = self.keys("list", status=4)
        self.assertIn("not a valid key file", said)
        self.assertNotIn("7772", said)


class NamedByALayout(unittest.TestCase):
    def data(self, cipher: str) -> tuple[str, bytes]:
        from volvex.codec import CIPHER

        hidden = CIPHER.get(cipher).encrypt().update(b"the lamp is lit!")
        return PLAIN, b"LCK1\x01" + b"\x05a.txt" + bytes([13, 16]) + hidden

    def test_a_layout_names_a_key_and_the_ring_has_it(self) -> None:
        text, data = self.data("aes_ctr(key hex 00 01 02 03 04 05 06 07 08 09 0a 0b 0c 0d 0e 0f)")
        layout = parse_layout(text.format(cipher='aes_ctr(key called "lamp")'), "l")
        library = Library(first=[layout], keys=KeyRing([Key("lamp", bytes(range(16)) + b"\n")]))
        archive = open_source(BytesSource(data, "x.lck"), library)
        assert archive is not None
        self.assertEqual(archive.content(0), b"the lamp is lit!")
        self.assertNotIn("00 01 02", repr(vars(archive)))
        with self.assertRaises(LockedError) as caught:
            open_source(BytesSource(data, "x.lck"), Library(first=[layout]))
        self.assertEqual(caught.exception.hint, "`volvex keys add lamp`")
        with self.assertRaises(LockedError) as wrong:
            open_source(BytesSource(data, "x.lck"), Library(first=[layout], keys=KeyRing([Key("lamp", b"short")])))
        self.assertIn("has 5 bytes, aes_ctr takes 16 or 24 or 32 bytes", wrong.exception.message)

    def test_the_same_with_the_key_in_the_layout(self) -> None:
        text, data = self.data("xor(key hex 5a 3c)")
        archive = archive_of(text.format(cipher="xor(key hex 5a 3c)"), data)
        self.assertEqual(archive.content(0), b"the lamp is lit!")


if __name__ == "__main__":
    unittest.main()
