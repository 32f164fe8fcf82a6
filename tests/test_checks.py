"""What is wrong with data is told before the game says so; and the game does say so."""

from __future__ import annotations

import unittest
from collections.abc import Mapping
from pathlib import Path

from hypothesis import example, given
from hypothesis import strategies as st

from kelpwick import GameError, almanac
from kelpwick.pack import Item, read_pack, write_pack
from kelpwick.play import play
from tests.books import BOOK, FILES, LIBRARY
from tests.support import MAIN, Case, made_game
from volvex.bench.game_description import read_game_description
from volvex.data import Change, open_data
from volvex.data.check import ERROR, Problem, problems
from volvex.data.meanings import Meanings, Reference, Spot, described
from volvex.data.path_index import PathIndex, fits
from volvex.data.placeholders import difference, placeholders
from volvex.data.references import Catalogue, follow, users
from volvex.errors import FormatError
from volvex.shipped import GAMES

DESCRIPTION = read_game_description(GAMES / "kelpwick" / "game.toml")


def pack(files: Mapping[str, bytes], path: Path) -> None:
    write_pack(path, [Item(name, content, 8) for name, content in sorted(files.items())], b"salt")


class Checked(Case):
    """All data of the game in memory, with some of it changed."""

    def setUp(self) -> None:
        super().setUp()
        self.files = {f"{BOOK}/{path}": data for path, data in FILES.items()}
        self.files |= {f"{MAIN}/{path}": data for path, data in read_pack(made_game() / MAIN).items()}

    def catalogue(self, meanings: Meanings = DESCRIPTION.meanings) -> Catalogue:
        return Catalogue(self.files, lambda path: open_data(self.files[path], LIBRARY, path), meanings)

    def change(self, path: str, *changes: Change) -> None:
        document = open_data(self.files[path], LIBRARY, path)
        assert document is not None
        self.files[path] = document.written(changes)

    def found(self, meanings: Meanings = DESCRIPTION.meanings) -> list[Problem]:
        catalogue = self.catalogue(meanings)
        return list(problems(catalogue, catalogue.data()))


def setting(sheet: str, key: str, field: str, after: str) -> Change:
    return Change("set", sheet, key, field, None, after)


MISTAKES: dict[str, tuple[str, Change, str, str]] = {
    "a key that is not there": (
        f"{BOOK}/tables/fittings.kwb",
        setting("fittings", "fresnel_3", "lens", "140"),
        "reference",
        "there is no 140 in lenses",
    ),
    "a lamp that is not there": (
        f"{BOOK}/tables/fittings.kwb",
        setting("fittings", "fresnel_3", "lamp", "fresnel_4"),
        "reference",
        "there is no fresnel_4 in lamp",
    ),
    "a record that is still used": (
        f"{BOOK}/tables/lenses.kwb",
        Change("remove", "lenses", "103"),
        "reference",
        "there is no 103 in lenses",
    ),
    "a lens in a chest": (
        f"{BOOK}/scenes/lamp_room.kwn",
        setting("chest", "6", "holds/1", "999"),
        "reference",
        "there is no 999 in lenses",
    ),
    "an object that is gone": (
        f"{BOOK}/scenes/lamp_room.kwn",
        Change("remove", "keeper", "5"),
        "reference",
        "there is no 5 in",
    ),
    "a text that is not there": (
        f"{BOOK}/scenes/lamp_room.kwn",
        setting("sign", "4", "says", "sign.stairs"),
        "reference",
        "there is no sign.stairs in lines",
    ),
    "an id twice": (f"{BOOK}/rules/workshop.xml", setting("job", "spare", "id", "grind_1"), "id", "more than once"),
    "a placeholder lost": (
        f"{BOOK}/texts/menu.kwx",
        setting("texts", "shop.price", "de", "Pence das Fass"),
        "placeholder",
        "de lacks {0}",
    ),
    "a placeholder too many": (
        f"{BOOK}/texts/dialogue.kwy",
        setting("lines", "ansa.oil@fr", "text", "{boat} {boat} {n}"),
        "placeholder",
        "has {boat} too many",
    ),
    "a tag lost": (
        f"{BOOK}/texts/menu.kwx",
        setting("texts", "lamp.range", "fr", "Vue à <b>%d milles"),
        "placeholder",
        "fr lacks </b>",
    ),
    "a character that no font has": (
        f"{BOOK}/texts/dialogue.kwy",
        setting("lines", "sign.stair@en", "text", "MIND ∂"),
        "font",
        "the game's font has no ∂",
    ),
    "a path that leads nowhere": (
        f"{BOOK}/rules/workshop.xml",
        setting("job", "grind_3", "drawing", "pictures/lamps/fresnl_3.png"),
        "path",
        "the game has no pictures/lamps/fresnl_3.png",
    ),
    "another version": (
        f"{BOOK}/addons/winter.json",
        setting("records", "winter", "game", "1.5"),
        "version",
        "for version 1.5, the game is 1.4",
    ),
    "a keeper in an INI file": (
        f"{BOOK}/rules/harbour.ini",
        setting("sections", "customs", "keeper", "anna"),
        "reference",
        "there is no anna in keeper",
    ),
}


class Mistakes(Checked):
    def test_the_game_as_it_is_has_no_faults(self) -> None:
        self.assertEqual(self.found(), [])
        self.assertIn("THE WORKSHOP", play(made_game()))

    def test_each_is_told_and_stops_the_game(self) -> None:
        game = self.game()
        for name, (path, change, kind, said) in MISTAKES.items():
            with self.subTest(name):
                before = dict(self.files)
                if "." in change.id and path.endswith(".kwx"):  # the key of a text that has only a hash
                    self.change_by_name(path, change)
                else:
                    self.change(path, change)
                found = [problem for problem in self.found() if problem.kind == kind]
                self.assertTrue(found and found[0].level == ERROR, name)
                self.assertIn(said, found[0].message)
                self.assertTrue(found[0].file and found[0].hint and found[0].place)
                pack(
                    {text[len(BOOK) + 1 :]: data for text, data in self.files.items() if text.startswith(BOOK)},
                    game / BOOK,
                )
                with self.assertRaises(GameError):
                    play(game)
                self.files = before

    def change_by_name(self, path: str, change: Change) -> None:
        document = open_data(self.files[path], LIBRARY, path)
        assert document is not None
        sheet = document.sheet(change.sheet)
        row = sheet.row(change.id)
        assert row is not None
        self.change(path, setting(change.sheet, sheet.ids[row], change.field, change.after or ""))

    def test_hints_say_what_was_meant(self) -> None:
        for name, hint in (
            ("a path that leads nowhere", "pictures/lamps/fresnel_3.png"),
            ("a lamp that is not there", "fresnel_"),
            ("a text that is not there", "sign.stair"),
            ("another version", "1.4"),
            ("a keeper in an INI file", "ansa"),
        ):
            path, change, kind, _ = MISTAKES[name]
            before = dict(self.files)
            self.change(path, change)
            self.assertIn(hint, next(problem.hint for problem in self.found() if problem.kind == kind))
            self.files = before

    def test_what_only_looks_wrong_is_a_warning(self) -> None:
        self.change(f"{BOOK}/scenes/lamp_room.kwn", setting("keeper", "5", "hidden", "yes"))
        document = open_data(self.files[f"{BOOK}/texts/menu.kwx"], LIBRARY, "menu")
        assert document is not None
        key = document.sheets[0].ids[document.sheets[0].row("menu.load") or 0]
        self.change(f"{BOOK}/texts/menu.kwx", setting("texts", key, "en", "Open the log " * 5))
        found = {problem.kind: problem for problem in self.found()}
        self.assertEqual({problem.level for problem in found.values()}, {"warning"})
        self.assertIn("is hidden", found["hidden"].message)
        self.assertIn("there is room for 42", found["length"].message)

    def test_a_file_that_is_damaged(self) -> None:
        self.files[f"{BOOK}/tables/lenses.kwb"] = FILES["tables/lenses.kwb"][:-20]
        self.files[f"{MAIN}/rules/lamps.xml"] += b"<"
        found = [problem for problem in self.found() if problem.kind == "file"]
        self.assertEqual([problem.file for problem in found], [f"{BOOK}/tables/lenses.kwb", f"{MAIN}/rules/lamps.xml"])


class References(Checked):
    def test_following(self) -> None:
        catalogue = self.catalogue()
        path = f"{BOOK}/tables/fittings.kwb"
        sheet = catalogue.document(path).sheets[0]  # type: ignore[union-attr]
        found = follow(catalogue, path, sheet, sheet.rows["fresnel_3"])
        self.assertEqual(
            [(found.by, found.sheet.name, found.sheet.ids[found.row]) for found in found.below],
            [("lamp", "lamp", "fresnel_3"), ("keeper", "keeper", "dunna"), ("lens", "lenses", "103")],
        )
        self.assertTrue(found.below[1].below[0].again)
        self.change(path, setting("fittings", "fresnel_3", "lens", "140"))
        catalogue = self.catalogue()
        sheet = catalogue.document(path).sheets[0]  # type: ignore[union-attr]
        self.assertEqual(follow(catalogue, path, sheet, 4).missing, [("lens", "140")])

    def test_a_circle_ends(self) -> None:
        catalogue = self.catalogue()
        path = f"{BOOK}/scenes/lamp_room.kwn"
        sheet = catalogue.document(path).sheet("door")  # type: ignore[union-attr]
        found = follow(catalogue, path, sheet, 0)
        self.assertEqual(found.below[0].sheet.ids[found.below[0].row], "3")
        self.assertTrue(found.below[0].below[0].again)

    def test_users(self) -> None:
        catalogue = self.catalogue()
        for path, sheet, key, wanted in (
            (
                f"{BOOK}/tables/lenses.kwb",
                "lenses",
                "101",
                {
                    ("job", "grind_1", "lens"),
                    ("fittings", "harbour_1", "lens"),
                    ("fittings", "old_light", "lens"),
                    ("chest", "6", "holds/0"),
                },
            ),
            (f"{BOOK}/texts/dialogue.kwy", "lines", "sign.stair@de", {("sign", "4", "says")}),
            (f"{MAIN}/rules/islands.xml", "island", "the_pans", {("boat", "marrow", "home")}),
        ):
            one = catalogue.document(path).sheet(sheet)  # type: ignore[union-attr]
            self.assertEqual({(user.sheet, user.id, user.field) for user in users(catalogue, path, one, [key])}, wanted)

    def test_without_a_profile_what_lies_beside_is_looked_at(self) -> None:
        catalogue = self.catalogue(Meanings())
        path = f"{BOOK}/tables/fittings.kwb"
        sheet = catalogue.document(path).sheets[0]  # type: ignore[union-attr]
        self.assertEqual([found.by for found in follow(catalogue, path, sheet, 0).below], ["lens"])

    def test_profiles_that_are_not_right(self) -> None:
        for values, said in (
            ({"references": {"a b": "c d"}}, "has 2 words, this needs 3"),
            ({"references": {"a b c": "c"}}, "needs 2"),
            ({"references": {"a b c": 5}}, "has a text for"),
            ({"lengths": {"a b c": 0}}, "a number of characters"),
            ({"fonts": {"a": "b c"}}, "needs 3"),
            ({"versions": []}, "is a table"),
        ):
            with self.assertRaises(FormatError) as caught:
                described(values, "game.toml")
            self.assertIn(said, caught.exception.message)
        found = described({"references": {"a.xml b c": "path", "*.xml b *": "d.xml *"}}, "p")
        self.assertEqual(found.references[0], Reference(Spot("a.xml", "b", "c"), None))

    def test_placeholders(self) -> None:
        text = "{0} {boat} %s %5.1f %1$d 100%% <b>x</b> <br/> [i]y[/i] \\n $NAME$ {not one} 5 % of"
        self.assertEqual(
            sorted(placeholders(text)),
            sorted(
                ["{0}", "{boat}", "%s", "%5.1f", "%1$d", "%%", "<b>", "</b>", "<br/>", "[i]", "[/i]", "\\n", "$NAME$"]
            ),
        )
        self.assertEqual(difference("{0} {0} %s", "%s {0} {1}"), (["{0}"], ["{1}"]))


class Strict(Case):
    """The game's own readers refuse what is damaged, in words."""

    def test_a_byte_flipped_anywhere(self) -> None:
        from kelpwick.almanac import ledgers, rules, sayings, scenes

        readers = {
            ledgers.LENSES: ledgers.read_lenses,
            ledgers.FITTINGS: ledgers.read_fittings,
            sayings.MENU: sayings.read_menu,
            sayings.DIALOGUES: sayings.read_dialogues,
            scenes.FILES[0]: lambda data: scenes.read(data, "a scene"),
            rules.WORKSHOP: rules.read_workshop,
            rules.ABOUT: rules.read_version,
            rules.HARBOUR: rules.read_harbour,
            rules.RATIONS: rules.read_rations,
            rules.FONT: rules.read_glyphs,
            rules.ADDON: rules.read_addon,
        }
        refused = dict.fromkeys(readers, 0)
        for path, read in readers.items():
            self.assertTrue(read(FILES[path]))
            for at in range(len(FILES[path])):
                bad = bytearray(FILES[path])
                bad[at] ^= 0x81
                for data in (bytes(bad), FILES[path][:at]):
                    try:
                        read(data)
                    except GameError as error:
                        refused[path] += 1
                        self.assertTrue(str(error))
        for path in (ledgers.LENSES, ledgers.FITTINGS, sayings.DIALOGUES, scenes.FILES[0]):
            self.assertGreater(refused[path], len(FILES[path]))


class Made(unittest.TestCase):
    def test_the_almanac_is_the_same_each_time(self) -> None:
        self.assertEqual(read_pack(made_game() / almanac.NAME), FILES)


class Paths(unittest.TestCase):
    """The index of paths finds what looking at each path finds."""

    @given(
        st.lists(st.text("ab./-", max_size=9).map(lambda path: path.lstrip("/")), max_size=12),
        st.lists(st.sampled_from(["a", "b", ".", "/", "*", "?", "[ab]", "[!a]", "[", "]", "-"]), max_size=8).map(
            "".join
        ),
    )
    @example(["a//"], "[/]")
    @example(["a/]/b", "b"], "[]/]b")
    def test_matching_and_beside(self, paths: list[str], pattern: str) -> None:
        index = PathIndex(paths)
        self.assertEqual(index.matching(pattern), [path for path in paths if fits(path, pattern)])
        for folder in {path.rpartition("/")[0] for path in paths}:
            self.assertEqual(index.beside(folder), [path for path in paths if path.rpartition("/")[0] == folder])

    def test_some_more_and_some_fewer(self) -> None:
        index = PathIndex(["a/x", "b/y"])
        self.assertIs(index.changed(["a/x"], ["c"]), index)
        self.assertEqual(index.changed(["c/z", "d"], ["b/y", "d"]).paths, ["a/x", "c/z"])


if __name__ == "__main__":
    unittest.main()
