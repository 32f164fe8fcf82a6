"""Small things that cost hours: undoing, unpacking without a folder, plain archives, carved files put back, texts for
translators."""

from __future__ import annotations

import json
import os
import shutil
import signal
import subprocess
import tarfile
import time
import unittest
import zipfile
from pathlib import Path

import polib

from tests.support import LAMPS, LETTER, MAIN, PROGRAM, Case, made_game
from volvex.data import open_data
from volvex.data.exchange import Wanted, exported, imported
from volvex.data.verify import edited
from volvex.errors import FormatError, UsageError
from volvex.layout import Library
from volvex.layout.language.parser import parse_layout

CALLS = """layout "calls" kind text
little endian
known by "CALL" at 0
block head at 0
    mark      4 bytes  is "CALL"
    count     u16      count of lines
block lines after head repeats
    key       text u8  id
    language  text u8  language
    text      text u8  text
"""


def calls(*rows: tuple[str, str, str]) -> bytes:
    """Texts with a record for each language."""
    return (
        b"CALL"
        + len(rows).to_bytes(2, "little")
        + b"".join(bytes([len(text)]) + text.encode() for row in rows for text in row)
    )


class Undo(Case):
    def setUp(self) -> None:
        super().setUp()
        self.work = self.bench(self.game())
        (self.folder / "mine.xml").write_text("<mine/>")
        self.volvex("set", LAMPS, "--row", "fresnel_3", "range=14", cwd=self.work)
        self.volvex("swap", "--new", f"{MAIN}/rules/mine.xml", "../mine.xml", cwd=self.work)
        self.volvex("drop", LETTER, cwd=self.work)

    def differing(self) -> set[str]:
        return {str(record["path"]) for record in self.records("changes", cwd=self.work)}

    def test_one_command_undoes_an_edit_a_new_file_and_a_drop(self) -> None:
        self.assertEqual(self.differing(), {LAMPS, f"{MAIN}/rules/mine.xml", LETTER})
        self.volvex("undo", f"{MAIN}/rules/mine.xml", cwd=self.work)
        self.assertEqual(self.differing(), {LAMPS, LETTER})
        self.volvex("undo", "*/main.kwp/letters/**", cwd=self.work)
        self.assertEqual(self.differing(), {LAMPS})
        self.volvex("undo", ".", "--plan", cwd=self.work)
        self.assertEqual(self.differing(), {LAMPS})
        self.volvex("undo", ".", cwd=self.work)
        self.assertEqual(self.differing(), set())

    def test_nothing_of_the_users_is_lost(self) -> None:
        self.volvex("undo", ".", cwd=self.work)
        kept = self.work / "undone"
        self.assertEqual((kept / MAIN / "rules/mine.xml").read_text(), "<mine/>")
        self.assertIn('range="14"', (kept / LAMPS).read_text())
        self.volvex("set", LAMPS, "--row", "fresnel_3", "range=15", cwd=self.work)
        self.volvex("undo", LAMPS, cwd=self.work)
        self.assertIn('range="15"', (kept / f"{MAIN}/rules/lamps~2.xml").read_text())

    def test_what_was_not_changed_cannot_be_undone(self) -> None:
        self.assertIn("no changes at", self.complaint("undo", f"{MAIN}/rules/boats.xml", cwd=self.work, status=3))

    def test_a_file_open_in_another_program_follows(self) -> None:
        self.volvex("take", LAMPS, "--as", "csv", cwd=self.work)
        self.volvex("undo", LAMPS, cwd=self.work)
        self.assertIn("rewritten", self.run_program("changes", cwd=self.work).stderr)
        self.assertIn("fresnel_3,Third Fresnel,paraffin,9", (self.work / f"open/{LAMPS}.csv").read_text("utf-8-sig"))


class Unpacking(Case):
    def test_without_a_folder_it_makes_one_named_after_the_archive(self) -> None:
        self.volvex("unpack", made_game() / MAIN)
        self.assertTrue((self.folder / "main/rules/lamps.xml").is_file())
        self.assertIn("main already exists", self.complaint("unpack", made_game() / MAIN, status=5))
        self.assertIn("no folder can be named", self.complaint("unpack", made_game() / "isles", status=2))

    def test_plain_archives_are_made_without_another(self) -> None:
        (self.folder / "in/deep").mkdir(parents=True)
        (self.folder / "in/deep/a b.txt").write_text("fog\n" * 99)
        (self.folder / "in/ü.txt").write_text("ü")
        for name in ("x.zip", "x.tar", "x.tar.gz", "x.tgz", "x.tar.xz", "x.tar.bz2"):
            self.volvex("pack", "in", "--to", name)
            path = self.folder / name
            if name == "x.zip":
                with zipfile.ZipFile(path) as made:
                    self.assertIsNone(made.testzip())
                    names = made.namelist()
            else:
                with tarfile.open(path) as tar:
                    names = tar.getnames()
                    member = tar.extractfile("deep/a b.txt")
                    self.assertEqual(member.read() if member else b"", b"fog\n" * 99)
            self.assertEqual(names, ["deep/a b.txt", "ü.txt"])
        first = (self.folder / "x.zip").read_bytes()
        self.volvex("pack", "in", "--to", "x.zip", "--overwrite")
        self.assertEqual((self.folder / "x.zip").read_bytes(), first)
        self.volvex("pack", "in", "--to", "x.tar.zst")
        self.assertEqual(len(self.records("list", "x.tar.zst")), 2)
        self.assertIn("gives no archive format", self.complaint("pack", "in", "--to", "x.dat", status=2))

    def test_modes_of_tar_are_told_in_octal(self) -> None:
        with tarfile.open(self.folder / "m.tar", "w") as archive:
            (self.folder / "run.sh").write_text("x")
            (self.folder / "run.sh").chmod(0o755)
            archive.add(self.folder / "run.sh", "run.sh")
        self.assertIn("0755", self.volvex("list", "m.tar", "--long"))


class PutBack(Case):
    def setUp(self) -> None:
        super().setUp()
        (self.folder / "game").mkdir()
        self.png = self.taken()
        (self.folder / "game/blob.dat").write_bytes(b"\1\2\3" * 100 + self.png + b"\4\5" * 100)
        self.volvex("bench", "game", "bench")
        self.work = self.folder / "bench"

    def taken(self) -> bytes:
        self.volvex("unpack", f"{made_game()}/{MAIN}/pictures/lamps/fresnel_1.png", "--to", "one")
        return next((self.folder / "one").rglob("*.png")).read_bytes()

    def test_a_carved_file_goes_back_where_it_was(self) -> None:
        self.run_program("identify", "blob.dat", "--save-found", "../carved", cwd=self.work, status=1)
        (name,) = (path.name for path in (self.folder / "carved").iterdir())
        self.assertEqual(name, "at-0x12c.png")
        edited_png = self.png[:40] + bytes([self.png[40] ^ 1]) + self.png[41:]
        (self.folder / "new.png").write_bytes(edited_png)
        for at in ("0x12c", "300"):
            self.volvex("swap", f"blob.dat@{at}", "../new.png", cwd=self.work)
        data = (self.work / "files/blob.dat").read_bytes()
        self.assertEqual(data, b"\1\2\3" * 100 + edited_png + b"\4\5" * 100)

    def test_a_path_that_only_looks_like_an_offset_is_that_path(self) -> None:
        (self.folder / "game/blob.dat@300").write_bytes(b"a file of its own")
        (self.folder / "mine").write_bytes(b"mine")
        self.volvex("swap", "blob.dat@300", "../mine", cwd=self.work)
        self.assertEqual((self.work / "files/blob.dat@300").read_bytes(), b"mine")
        self.assertFalse((self.work / "files/blob.dat").exists())

    def test_a_smaller_one_is_filled_up_and_others_are_refused(self) -> None:
        for name, content, why in (
            ("large.png", self.png + b"x", "there is room for"),
            ("horn.wav", b"RIFF\4\0\0\0WAVE", "of another kind"),
        ):
            (self.folder / name).write_bytes(content)
            self.assertIn(why, self.complaint("swap", "blob.dat@0x12c", f"../{name}", cwd=self.work, status=5))
        self.assertIn(
            "no file is known to lie at",
            self.complaint("swap", "blob.dat@0x10", "../large.png", cwd=self.work, status=3),
        )
        (self.folder / "small.png").write_bytes(self.png[:60])
        self.assertIn("zeros behind it", self.volvex("swap", "blob.dat@0x12c", "../small.png", cwd=self.work))
        data = (self.work / "files/blob.dat").read_bytes()
        self.assertEqual(
            (len(data), data[300:360], data[360 : 300 + len(self.png)].strip(b"\0")),
            (500 + len(self.png), self.png[:60], b""),
        )


class Saved(Case):
    def test_replaced_lines_are_saved_and_carried_over(self) -> None:
        game = self.game()
        work = self.bench(game)
        self.volvex("set", LETTER, "--replace", "lamp", "lantern", cwd=work)
        self.volvex("changes", "--save", "../mine.json", cwd=work)
        self.assertIn(LETTER, json.loads((self.folder / "mine.json").read_text())["files"])
        shutil.rmtree(work)
        again = self.bench(game)
        self.volvex("merge", "../mine.json", cwd=again)
        self.assertIn("lantern", (again / "files" / LETTER).read_text())

    def test_a_bench_whose_game_has_moved_says_what_to_do(self) -> None:
        work = self.bench(self.game())
        (self.folder / "game").rename(self.folder / "elsewhere")
        for words in (("changes",), ("list", "."), ("take", LAMPS)):
            self.assertIn("--game DIR", self.complaint(*words, cwd=work, status=3))
        self.volvex("take", LAMPS, "--game", "../elsewhere", cwd=work)
        self.volvex("take", LETTER, cwd=work)


class Translators(Case):
    def test_letters_become_catalogues_and_come_back(self) -> None:
        self.volvex("convert", f"{made_game()}/{LETTER}", "letter.po", "--language", "nl")
        catalogue = polib.pofile(str(self.folder / "letter.po"))
        self.assertFalse([one for one in catalogue if one.msgstr])
        catalogue[0].msgstr = "Aan de wachter"
        catalogue.save()
        self.volvex("convert", "letter.po", "letter.txt", "--like", f"{made_game()}/{LETTER}")
        text = (self.folder / "letter.txt").read_text().splitlines()
        self.assertEqual(
            (text[0], len(text)), ("Aan de wachter", len(self.volvex("show", f"{made_game()}/{LETTER}").splitlines()))
        )
        self.volvex("convert", f"{made_game()}/{LETTER}", "letter.xlf")

    def test_a_language_is_added_where_each_has_records_of_its_own(self) -> None:
        library, layout = Library(), parse_layout(CALLS, "calls.layout")
        document = open_data(
            calls(("ahoy", "en", "Ahoy"), ("ahoy", "de", "Ahoi"), ("fog", "en", "Fog")), library, "calls.bin", layout
        )
        assert document is not None
        wanted = Wanted(language="nl", original="en")
        catalogue = (
            exported("po", document, wanted).decode().replace('msgid "Fog"\nmsgstr ""', 'msgid "Fog"\nmsgstr "Mist"')
        )
        incoming = imported("po", catalogue.encode(), document, wanted, "calls.po")
        after = open_data(edited(document, incoming.changes), library, "calls.bin", layout)
        assert after is not None
        self.assertEqual(after.sheets[0].ids, ["ahoy@en", "ahoy@de", "fog@en", "fog@nl"])
        with self.assertRaises(FormatError) as caught:  # no language told: it must not be taken for another
            imported(
                "po",
                catalogue.replace("Language: nl", "X-Note: none").encode(),
                document,
                Wanted(original="en"),
                "calls.po",
            )
        self.assertIn("no Language", caught.exception.message)

    def test_where_languages_are_fixed_none_is_added(self) -> None:
        dialogue = f"{made_game()}/data/almanac.kwp/texts/dialogue.kwy"
        self.assertIn(
            "can hold no language nl", self.complaint("convert", dialogue, "x.po", "--language", "nl", status=2)
        )

    def test_in_a_catalogue_of_one_language_an_edit_of_the_source_changes_nothing(self) -> None:
        library, layout = Library(), parse_layout(CALLS, "calls.layout")
        document = open_data(calls(("ahoy", "en", "Ahoy"), ("fog", "en", "Fog")), library, "calls.bin", layout)
        assert document is not None
        catalogue = exported("po", document, Wanted()).decode().replace('msgid "Fog"', 'msgid "Mist"')
        incoming = imported("po", catalogue.encode(), document, Wanted(), "calls.po")
        self.assertEqual(incoming.changes, [])
        self.assertIn("the original of fog was another one", incoming.notes[0])

    def test_catalogues_of_the_game_are_tables_and_keep_every_other_byte(self) -> None:
        text = '# by hand\nmsgid ""\nmsgstr ""\n"Language: de\\n"\n\n#: a:1\nmsgid "Lamp"\nmsgstr "Lampe"\n\n#~ msgid "Old"\n#~ msgstr "Alt"\n'  # noqa: E501
        document = open_data(text.encode(), Library(), "de.po")
        assert document is not None
        sheet = document.sheets[0]
        self.assertEqual((document.form, sheet.ids, sheet.cell(1, "text")), ("po", ["(head)", "Lamp"], "Lampe"))
        from volvex.data import Change

        made = document.written([Change("set", "messages", "Lamp", "text", "Lampe", 'Licht "an"\naus')])
        self.assertEqual(made.decode(), text.replace('msgstr "Lampe"', 'msgstr ""\n"Licht \\"an\\"\\n"\n"aus"'))
        with self.assertRaises(UsageError):
            document.written([Change("add", "messages", "New", fields=(("text", "x"),))])


@unittest.skipIf(os.name == "nt", "signals are those of POSIX")
class Interrupted(Case):
    def test_it_says_what_was_done_and_how_to_go_on(self) -> None:
        path = self.folder / "big.zip"
        with zipfile.ZipFile(path, "w", zipfile.ZIP_DEFLATED) as archive:
            for number in range(6000):
                archive.writestr(f"{number}.txt", f"{number}" * 3000)

        def heeded() -> None:  # a job in the background starts with this signal ignored
            signal.signal(signal.SIGINT, signal.SIG_DFL)

        process = subprocess.Popen(
            [PROGRAM, "unpack", path, "--to", "out"],
            cwd=self.folder,
            env=self.environment(),
            stderr=subprocess.PIPE,
            text=True,
            preexec_fn=heeded,
        )
        for _ in range(20000):
            if (self.folder / "out").is_dir():
                break
            time.sleep(0.002)
        process.send_signal(signal.SIGINT)
        said = process.communicate()[1]
        self.assertEqual(process.returncode, 130, said)
        self.assertIn("interrupted: the files in out are whole", said)
        self.assertIn("--skip-existing", said)
        self.volvex("unpack", path, "--to", "out", "--skip-existing")
        self.assertEqual(len(list((self.folder / "out").iterdir())), 6000)
        self.assertEqual(Path(self.folder / "out/5999.txt").read_text(), "5999" * 3000)


if __name__ == "__main__":
    unittest.main()
