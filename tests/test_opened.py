"""Records of files in a bench's folder `open`: of every kind, in both formats of the bench's file."""

from __future__ import annotations

import json
import unittest

from tests.support import Case
from volvex.bench.opened import (
    EDITED,
    MODEL,
    ORIGINAL,
    PICTURE,
    SOUND,
    SPRITE,
    OpenedAsset,
    OpenedData,
    opened_of,
    record_of,
)

OLD = {"place": "a/b.x", "digest": "1", "of": "2", "beside": []}
CUES = '<cues>\n<sound id="bell" at="3"/>\n<sound id="horn" at="4"/>\n<lamp id="a" on="1"/>\n</cues>\n'


class Records(unittest.TestCase):
    def test_there_and_back(self) -> None:
        for opened in (
            OpenedData("a.csv", "csv", "1", "2", sheet="sound", language="de"),
            OpenedAsset("a.png", "tga", "1", "2", ("a.png.1",), asset=PICTURE, base=EDITED, part="alpha"),
            OpenedAsset("a.x", "png", "1", "2", asset=SPRITE, part="gull", grid="8x8"),
        ):
            self.assertEqual(opened_of(json.loads(json.dumps(record_of(opened))), 2), opened)

    def test_the_first_format_is_read_as_it_was_meant(self) -> None:
        for sheet, extension, language, wanted in (
            ("lamps", "csv", "", OpenedData("a/b.x", "csv", "1", "2", sheet="lamps")),
            ("sound", "csv", "", OpenedData("a/b.x", "csv", "1", "2", sheet="sound")),
            ("picture", "png", "alpha", OpenedAsset("a/b.x", "png", "1", "2", asset=PICTURE, part="alpha")),
            ("sound as edited", "wav", "", OpenedAsset("a/b.x", "wav", "1", "2", asset=SOUND, base=EDITED)),
            ("model", "glb", "", OpenedAsset("a/b.x", "glb", "1", "2", asset=MODEL, base=ORIGINAL)),
            ("sprite 8x8", "png", "gull", OpenedAsset("a/b.x", "png", "1", "2", asset=SPRITE, part="gull", grid="8x8")),
        ):
            record = {**OLD, "ending": extension, "sheet": sheet, "language": language}
            self.assertEqual(opened_of(record, 1), wanted)

    def test_what_is_none_is_refused(self) -> None:
        good = record_of(OpenedAsset("a", "png", "1", "2"))
        faults: tuple[dict[str, object], ...] = (
            {"path": "../a"},
            {"beside": ["/a"]},
            {"extension": 3},
            {"part": None},
            {"digest": []},
        )
        for fault in faults:
            with self.assertRaises(ValueError):
                opened_of({**good, **fault}, 2)


class Sheets(Case):
    def test_a_sheet_may_be_called_as_a_kind_of_asset(self) -> None:
        for name in (SOUND, MODEL, PICTURE, SPRITE):
            with self.subTest(name):
                game = self.folder / name
                game.mkdir()
                (game / "cues.xml").write_text(CUES.replace("sound", name))
                work = self.folder / f"bench-{name}"
                self.volvex("bench", game, work)
                self.volvex("take", "cues.xml", "--as", "csv", "--sheet", name, cwd=work)
                opened = work / f"open/cues.xml.{name}.csv"
                opened.write_text(opened.read_text("utf-8-sig").replace("horn,4", "horn,7"))
                self.assertIn("at 4 -> 7", self.volvex("changes", cwd=work))

    def test_a_bench_of_the_first_format_is_read_and_written_again(self) -> None:
        work = self.bench(self.game())
        self.volvex("take", "canvas/fog.dds", "--as", "png", cwd=work)
        path = work / "bench.json"
        value = json.loads(path.read_text())
        self.assertEqual(value["bench"], 2)
        value["bench"] = 1
        for record in value["opened"].values():
            renamed = {"place": record.pop("path"), "ending": record.pop("extension"), "sheet": record.pop("asset")}
            record |= renamed | {"language": record.pop("part")}
            del record["base"], record["grid"]
        path.write_text(json.dumps(value))
        self.assertIn("no changes", self.volvex("changes", cwd=work))
        self.volvex("take", "birds/flags.xml", cwd=work)
        self.assertEqual(json.loads(path.read_text())["bench"], 2)


if __name__ == "__main__":
    unittest.main()
