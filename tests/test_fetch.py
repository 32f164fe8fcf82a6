"""Lists of names and game packs from a server on this machine: one that behaves, and every kind of one that does
not."""

from __future__ import annotations

import http.server
import io
import json
import shutil
import threading
import unittest
import zipfile
from pathlib import Path
from typing import ClassVar

from tests.support import Case, made_game
from volvex.errors import NotFoundError, RefusedError, UsageError, VolvexError
from volvex.names.update import file_name
from volvex.source.fetch import fetch

GOOD = b"# paths of the loft\nboats/skiff_01/hull.msh\nboats/skiff_01/sail.msh\nmeshes/lamps/fresnel_1.msh\n"


class Server(http.server.BaseHTTPRequestHandler):
    """Answers by the path that is asked for."""

    pages: ClassVar[dict[str, bytes]] = {}
    asked: ClassVar[list[tuple[str, int]]] = []
    release: ClassVar[threading.Event] = threading.Event()

    def log_message(self, *_: object) -> None: ...

    def _send(self, status: int, body: bytes, size: int | None = None, **headers: str) -> None:
        self.asked.append((self.path, status))
        self.send_response(status)
        self.send_header("Content-Length", str(len(body) if size is None else size))
        for name, value in headers.items():
            self.send_header(name, value)
        self.end_headers()
        self.wfile.write(body)

    def do_GET(self) -> None:
        name = self.path.strip("/")
        if name == "circle":
            self._send(302, b"", Location="/circle")
        elif name == "there":
            self._send(302, b"", Location="/good.txt")
        elif name == "hangs":
            self.release.wait(20)
        elif name == "drips":
            self.send_response(200)
            self.end_headers()
            while not self.release.wait(0.05):
                try:
                    self.wfile.write(b"a\n")
                except OSError:
                    return
        elif name == "slow-head":  # a byte of a header now and then, which is never silence
            self.wfile.write(b"HTTP/1.1 200 OK\r\nX-Slow: ")
            while not self.release.wait(0.1):
                try:
                    self.wfile.write(b"a")
                    self.wfile.flush()
                except OSError:
                    return
        elif name == "short":
            self._send(200, GOOD, size=len(GOOD) + 100)
        elif name == "broken":
            self._send(500, b"")
        elif name in self.pages:
            body = self.pages[name]
            mark = f'"{hash(body)}"'
            if self.headers.get("If-None-Match") == mark:
                self._send(304, b"")
            else:
                self._send(200, body, ETag=mark)
        else:
            self._send(404, b"")


class Loopback(Case):
    server: http.server.ThreadingHTTPServer
    address: str

    @classmethod
    def setUpClass(cls) -> None:
        cls.server = http.server.ThreadingHTTPServer(("127.0.0.1", 0), Server)
        cls.address = f"http://127.0.0.1:{cls.server.server_port}"
        threading.Thread(target=cls.server.serve_forever, args=(0.05,), daemon=True).start()

    @classmethod
    def tearDownClass(cls) -> None:
        Server.release.set()
        cls.server.shutdown()
        cls.server.server_close()

    def setUp(self) -> None:
        super().setUp()
        Server.release.clear()
        Server.pages, Server.asked = {"good.txt": GOOD}, []
        self.addCleanup(Server.release.set)


class Fetching(Loopback):
    def test_a_file_and_whether_it_has_changed(self) -> None:
        fetched = fetch(f"{self.address}/there", 1000)
        self.assertEqual(fetched.data, GOOD)
        self.assertIsNone(fetch(f"{self.address}/good.txt", 1000, fetched.etag).data)
        Server.pages["good.txt"] = b"other\n"
        self.assertEqual(fetch(f"{self.address}/good.txt", 1000, fetched.etag).data, b"other\n")

    def test_every_bad_answer_is_one_error(self) -> None:
        for page, kind, said in (
            ("circle", RefusedError, "leads in a circle"),
            ("hangs", RefusedError, "does not answer"),
            ("drips", RefusedError, "takes too long"),
            ("slow-head", RefusedError, "takes too long"),
            ("short", RefusedError, "cannot be fetched"),
            ("broken", RefusedError, "the server answers 500"),
            ("nothing", NotFoundError, "no such file"),
        ):
            with self.subTest(page), self.assertRaises(kind) as caught:
                fetch(f"{self.address}/{page}", 1000, seconds=0.6, silence=0.4)
            self.assertIn(said, str(caught.exception))
            Server.release.set()
            Server.release.clear()

    def test_sizes_are_bounded_whatever_the_server_says(self) -> None:
        with self.assertRaisesRegex(RefusedError, "at most 50 are taken"):
            fetch(f"{self.address}/good.txt", 50)
        with self.assertRaisesRegex(RefusedError, "sends more than 3 bytes"):
            fetch(f"{self.address}/drips", 3)

    def test_what_is_no_address(self) -> None:
        for one in ("file:///etc/passwd", "http://", "paths.txt", "http://[::1", "http://a:port/x"):
            with self.subTest(one), self.assertRaises(UsageError):
                fetch(one, 10)
        with self.assertRaises(VolvexError):
            fetch("http://127.0.0.1:1/x", 10, silence=1)

    def test_names_of_lists(self) -> None:
        self.assertEqual(file_name("https://a.b/c/Paths%20of%20all.list.txt?x=1", set()), "Paths-of-all-list.txt")
        self.assertEqual(file_name("https://a.b", {"list.txt"}), "list-2.txt")


class Lists(Loopback):
    """`names update` and `games add` of an address."""

    def setUp(self) -> None:
        super().setUp()
        self.pack = self.home / "mine"
        shutil.copytree(Path(__file__).parent.parent / "src/volvex/games/kelpwick", self.pack)
        shutil.rmtree(self.pack / "names")
        self.lists("good.txt")

    def lists(self, *names: str) -> None:
        text = (self.pack / "game.toml").read_text(encoding="utf-8")
        text = "\n".join(line for line in text.splitlines() if not line.startswith("lists ="))
        addresses = ", ".join(f'"{self.address}/{name}"' for name in names)
        (self.pack / "game.toml").write_text(text.replace("\n\n", f"\nlists = [{addresses}]\n\n", 1), encoding="utf-8")

    def test_new_names_are_counted_and_nothing_is_sent_twice(self) -> None:
        game = made_game()
        said = self.volvex("names", "update", "mine", "--game", game)
        self.assertIn("good.txt: 3 names, 3 new; ", said)
        self.assertRegex(said, r"[1-9]\d* more entries have a name, ")
        self.assertEqual((self.pack / "names/good.txt").read_bytes(), GOOD)
        self.assertIn("3 names, unchanged", self.volvex("names", "update"))
        self.assertEqual([status for _, status in Server.asked], [200, 304])
        (self.pack / "names/good.txt").write_bytes(GOOD + b"my/own\n")
        self.assertIn("was made or changed here", self.volvex("names", "update", "mine", status=1))
        self.assertEqual(
            (self.pack / "names/good.txt").read_bytes(), GOOD + b"my/own\n", "a list that was changed here stays"
        )

    def test_what_is_worse_or_no_list_leaves_the_old_one(self) -> None:
        self.volvex("names", "update", "mine")
        game = made_game()
        for page, said, status in (
            (b"<!DOCTYPE html>\n<html>not found</html>", "a web page", 4),
            (b"caf\xe9\n", "is not utf-8", 4),
            (b"\n", "the list is empty", 4),
            (b"one\n", "not taken: it has 1 names", 1),
            (b"a/b\nc/d\ne/f\n", "not taken: with it", 1),
        ):
            with self.subTest(said):
                Server.pages["good.txt"] = page
                done = self.run_program("names", "update", "mine", "--game", game, status=status)
                self.assertIn(said, done.stdout + done.stderr)
                self.assertEqual((self.pack / "names/good.txt").read_bytes(), GOOD)

    def test_one_bad_address_does_not_keep_the_others(self) -> None:
        self.lists("nothing", "good.txt")
        done = self.run_program("names", "update", "mine", "--json", status=3)
        self.assertEqual([one["names"] for one in json.loads(done.stdout)], [3])
        self.assertIn("not updated: ", done.stderr)
        self.lists()
        self.assertIn("has no addresses", self.complaint("names", "update", "mine", status=3))

    def test_what_is_no_pack_is_said_in_a_packs_words(self) -> None:
        self.assertIn("is no address", self.complaint("games", "add", "http://[::1", status=2))
        (self.folder / "x.zip").write_bytes(b"no zip")
        self.assertIn("ZIP of a game pack", self.complaint("games", "add", "x.zip", status=4))

    def test_a_pack_from_an_address(self) -> None:
        data = io.BytesIO()
        with zipfile.ZipFile(data, "w") as archive:
            archive.writestr("game.toml", 'name = "Small Light"\nknown = ["kelpwick.ini"]\n')
        Server.pages |= {"Small%20Light.zip": data.getvalue(), "page.zip": b"<html></html>"}
        self.assertIn("Small Light", self.volvex("games", "add", f"{self.address}/Small%20Light.zip"))
        self.assertTrue((self.home / "small-light/game.toml").is_file())
        self.complaint("games", "add", f"{self.address}/page.zip", status=4)
        self.complaint("games", "add", f"{self.address}/circle", status=5)
        self.assertEqual([path.name for path in (self.home / "cache").glob("game-pack*")], [])


if __name__ == "__main__":
    unittest.main()
