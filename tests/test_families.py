"""Every family of structure: read, proved, changed in every way, and loaded afterwards by code that is not the
engine's."""

from __future__ import annotations

import random
import struct
import unittest
from collections.abc import Iterator
from unittest.mock import patch

from hypothesis import given, settings
from hypothesis import strategies as st

from tests.families import FAMILIES as FIRST
from tests.families import Family, expect
from tests.more_families import MORE
from tests.support import archive_of
from tests.trial_families import TRIAL
from volvex.archive import LayoutArchive
from volvex.archive.mutation_proof import prove_harder
from volvex.errors import FormatError, RefusedError
from volvex.layout.inspect.coverage import coverage, covering, stretches
from volvex.layout.inspect.proof import check_objects, prove
from volvex.layout.write.plan import Added, Edit
from volvex.layout.write.planner import plan
from volvex.source import Spool

FAMILIES = {**FIRST, **MORE, **TRIAL}


def contents(archive: LayoutArchive) -> dict[str, bytes]:
    """What an archive holds, by the names that it stores."""
    names = archive.entries.names
    return {names.raw(row).decode(names.encoding): archive.content(row) for row in range(len(archive))}


def changed(
    archive: LayoutArchive, spool: Spool, replaced: dict[str, bytes], added: dict[str, bytes], removed: set[str]
) -> bytes:
    """The archive's bytes after an edit, by names as it stores them."""
    names = archive.entries.names
    rows = {names.raw(row).decode(names.encoding): row for row in range(len(archive))}
    edit = Edit(removed={rows[name] for name in removed})
    for name, data in replaced.items():
        edit.replaced[rows[name]] = archive.encode(spool, [data], rows[name])
    for name, data in added.items():
        ending, like = name.rpartition(".")[2], 0
        like = next((row for other, row in rows.items() if other.endswith(ending)), like)
        edit.added.append(Added(name.encode(names.encoding), like, archive.encode(spool, [data], like)))
    fast, careful = plan(archive.reading, edit), plan(archive.reading, edit, each=True)
    data = b"".join(fast.chunks())
    expect(len(data), fast.size)
    expect(b"".join(careful.chunks()), data)
    return data


class Families(unittest.TestCase):
    def families(self) -> Iterator[tuple[Family, bytes, LayoutArchive]]:
        for name, family in FAMILIES.items():
            with self.subTest(name):
                data = family.make(family.files)
                yield family, data, archive_of(family.layout, data, name)

    def test_the_other_loader_reads_what_the_other_writer_wrote(self) -> None:
        for family, data, _ in self.families():
            self.assertEqual(family.load(data), {family.names(name): content for name, content in family.files})

    def test_read(self) -> None:
        for family, data, archive in self.families():
            self.assertEqual(contents(archive), family.load(data))

    def test_proved(self) -> None:
        for _, data, archive in self.families():
            self.assertIsNone(prove(archive.reading).difference)
            self.assertEqual(b"".join(plan(archive.reading, Edit()).chunks()), data)

    def test_the_harder_proof_holds(self) -> None:
        for _, _, archive in self.families():
            trials = list(prove_harder(archive))
            self.assertGreater(len(trials), 8)
            self.assertEqual([(trial.what, trial.fault) for trial in trials if trial.fault and not trial.refused], [])

    def test_every_change_is_loaded_by_the_other_loader(self) -> None:
        for family, data, archive in self.families():
            before = family.load(data)
            full = [name for name, content in before.items() if content]
            edits: list[tuple[dict[str, bytes], dict[str, bytes], set[str]]] = [
                ({full[0]: before[full[0]] * 3 + b"grown"}, {}, set()),
                ({full[1]: before[full[1]][:3]}, {}, set()),
                ({full[-1]: b""}, {}, set()),
                ({}, {family.new: b"\x00\x3c\x00\x00new"}, set()),
                ({}, {}, {full[0]}),
                ({full[1]: b"x" * 5000}, {family.new: b"new" * 700}, {full[0]}),
            ]
            with Spool() as spool:
                for replaced, added, removed in edits:
                    made = changed(archive, spool, replaced, added, removed)
                    wanted = {
                        name: data for name, data in {**before, **replaced, **added}.items() if name not in removed
                    }
                    self.assertEqual(family.load(made), wanted)
                    again = archive_of(family.layout, made)
                    self.assertIsNone(prove(again.reading).difference)

    def test_fifteen_edits_of_the_newer_families(self) -> None:
        """First, middle and last: grown, shrunk, emptied, taken out; added under names of several lengths; all at
        once."""
        for name, family in {**MORE, **TRIAL}.items():
            data = family.make(family.files)
            archive, before = archive_of(family.layout, data, name), family.load(data)
            names = list(before)
            spots = (names[0], names[len(names) // 2], names[-1])
            edits: list[tuple[dict[str, bytes], dict[str, bytes], set[str]]] = []
            for spot in spots:
                edits += [({spot: before[spot] * 2 + b"and more"}, {}, set()), ({spot: before[spot][:5]}, {}, set())]
                edits += [({spot: b""}, {}, set()), ({}, {}, {spot})]
            edits += [({}, {"a": b"first"}, set()), ({}, {"zz/long/name.txt": b"", "m.txt": b"two" * 200}, set())]
            edits.append(({spots[1]: b"y" * 3000}, {"n.png": b"\x89PNG"}, {spots[0], spots[2]}))
            self.assertEqual(len(edits), 15)
            with self.subTest(name), Spool() as spool:
                for replaced, added, removed in edits:
                    wanted = {
                        path: content
                        for path, content in {**before, **replaced, **added}.items()
                        if path not in removed
                    }
                    self.assertEqual(family.load(changed(archive, spool, replaced, added, removed)), wanted)

    def test_changes_on_changes(self) -> None:
        rng = random.Random(7)
        for family, data, _ in self.families():
            with Spool() as spool:
                for _ in range(4):
                    archive, before = archive_of(family.layout, data), family.load(data)
                    name = rng.choice([name for name in before if not name.endswith("/")])
                    content = rng.randbytes(rng.randrange(300)) * rng.randrange(1, 4)
                    data = changed(archive, spool, {name: content}, {}, set())
                    self.assertEqual(family.load(data), {**before, name: content})

    def test_explained_without_a_gap(self) -> None:
        for _, data, archive in self.families():
            at = 0
            for stretch in stretches(archive.reading):
                if not stretch.within and stretch.what not in ("bits", "inside"):
                    self.assertEqual(stretch.start, at, stretch)
                    at += stretch.size
            self.assertEqual(at, len(data))
            told = coverage(archive.reading)
            self.assertEqual(told.fields + told.content + told.padding, len(data))
            self.assertEqual(told.unexplained, [])

    def test_every_byte_is_covered_by_something(self) -> None:
        for _, data, archive in self.families():
            for offset in range(0, len(data), 7):
                stretch = covering(archive.reading, offset)
                self.assertLessEqual(stretch.start, offset)
                self.assertGreater(stretch.start + stretch.size, offset, stretch)

    @given(st.data())
    @settings(max_examples=40, deadline=None)
    def test_any_contents(self, draw: st.DataObject) -> None:
        name = draw.draw(st.sampled_from([name for name in FAMILIES if name not in ("kinds", "package")]))
        family = FAMILIES[name]
        files = [(path, draw.draw(st.binary(max_size=600))) for path, _ in family.files]
        data = family.make(files)
        archive = archive_of(family.layout, data)
        self.assertEqual(contents(archive), family.load(data))
        self.assertIsNone(prove(archive.reading).difference)


class Special(unittest.TestCase):
    """What only some families have."""

    def archive(self, name: str) -> LayoutArchive:
        family = FAMILIES[name]
        return archive_of(family.layout, family.make(family.files), name)

    def test_entries_without_names_have_stand_ins(self) -> None:
        names = self.archive("keyed").names
        self.assertTrue(all(name.startswith("unnamed/") for name in names))
        self.assertEqual(sorted(name.partition(".")[2] for name in names), ["", "png", "txt", "txt", "txt"])
        self.assertEqual(len({name.partition(".")[0] for name in names}), 5)

    def test_extensions_told_by_numbers(self) -> None:
        self.assertEqual(
            sorted(name.rpartition(".")[2] for name in self.archive("split").names), ["png", "txt", "txt", "txt", "txt"]
        )

    def test_values_of_arrays_choices_and_records(self) -> None:
        archive = self.archive("odd")
        record = {stretch.name: stretch.value for stretch in stretches(archive.reading)}
        self.assertEqual(record["table[2].shape"], "[(x 0, y 0.0), (x 0.5, y 0.1)]")
        self.assertEqual(record["table[1].note"], "count 2, lines [(text one), (text )], at x 1.5, y nan")
        self.assertEqual(record["table[1].date"], "-0x9")
        self.assertNotIn("table[0].date", record)
        self.assertEqual(record["table[2].tag"], "salt")
        self.assertEqual(record["table[0].kind"], "0 short")

    def test_objects_are_explained_by_the_record_of_their_type(self) -> None:
        told = [
            (stretch.name, stretch.value)
            for stretch in stretches(self.archive("package").reading)
            if stretch.what == "inside"
        ]
        self.assertIn(("lamp.fuel", "0 oil"), told)
        self.assertIn(("lamp.table", "[7, 8, 9]"), told)
        self.assertIn(("bell.name", "harbour"), told)

    def test_an_object_that_is_not_as_its_record_says(self) -> None:
        family = FAMILIES["package"]
        archive = archive_of(family.layout, family.make((("fresnel.lamp", b"short"), *family.files[1:])))
        lines = [stretch.value for stretch in stretches(archive.reading) if stretch.name == "lamp"]
        self.assertEqual(lines, ["differs from its record: its bytes end within a field"])
        with self.assertRaises(FormatError) as caught:
            check_objects(archive.reading)
        self.assertIn("fresnel.lamp differs from its record", caught.exception.message)

    def test_a_number_that_is_longer_than_it_needs_to_be(self) -> None:
        family = FAMILIES["nested"]
        data = family.make(family.files)
        at = struct.unpack_from("<I", data, 4)[0] + 1
        broken = data[:at] + bytes([data[at] | 128, 0]) + data[at + 1 :]
        with self.assertRaises(FormatError) as caught:
            archive_of(family.layout, broken)
        self.assertIn("in 2 bytes, which is more than it needs", caught.exception.message)
        self.assertEqual((caught.exception.offset, caught.exception.field), (at, "folder"))

    def test_fields_of_other_versions_are_not_there(self) -> None:
        lines = {stretch.name for stretch in stretches(self.archive("version 1").reading)}
        self.assertIn("head.narrow", lines)
        self.assertFalse({"head.flags", "head.wide", "table[0].date"} & lines)

    def test_new_folders_and_folders_in_them(self) -> None:
        new = {"bells/new.txt": b"ding", "bells/fog/deep.txt": b"dong" * 90, "letters/de/ankunft.txt": b"Die Treppe"}
        for name in ("tree", "nested", "parents", "wharf"):
            with self.subTest(name), Spool() as spool:
                family = FAMILIES[name]
                archive = self.archive(name)
                before = family.load(family.make(family.files))
                made = changed(archive, spool, {}, new, {next(iter(before))})
                wanted = {**before, **new}
                del wanted[next(iter(before))]
                self.assertEqual(family.load(made), wanted)
                again = archive_of(family.layout, made)
                self.assertIsNone(prove(again.reading).difference)
                more = changed(again, spool, {}, {"bells/fog/more.txt": b"!", "boats/skiff.txt": b""}, set())
                self.assertEqual(family.load(more), {**wanted, "bells/fog/more.txt": b"!", "boats/skiff.txt": b""})

    def test_a_name_where_there_are_only_keys(self) -> None:
        archive = self.archive("keyed")
        with Spool() as spool, self.assertRaises(RefusedError) as caught:
            changed(archive, spool, {}, {"bells/new.txt": b""}, set())
        self.assertIn("16 hexadecimal digits", caught.exception.hint)

    def test_an_extension_that_has_no_number(self) -> None:
        archive = self.archive("package")
        with Spool() as spool, self.assertRaises(RefusedError) as caught:
            changed(archive, spool, {}, {"new.fog": b""}, set())
        self.assertIn("bell, lamp", caught.exception.hint)

    def test_shared_bytes_stay_shared_until_one_is_changed(self) -> None:
        archive = self.archive("kinds")
        first, second = archive.names.index("lamps/fresnel.png"), archive.names.index("lamps/copy.png")
        self.assertEqual(archive.entries.start[first], archive.entries.start[second])
        with Spool() as spool:
            moved = archive_of(
                FAMILIES["kinds"].layout, changed(archive, spool, {"lamps/argand.txt": b"wick" * 99}, {}, set())
            )
            self.assertEqual(moved.entries.start[first], moved.entries.start[second])
            apart = archive_of(
                FAMILIES["kinds"].layout, changed(archive, spool, {"lamps/copy.png": b"other"}, {}, set())
            )
            self.assertNotEqual(apart.entries.start[first], apart.entries.start[second])

    def test_a_solid_part_that_is_not_touched_keeps_its_stored_bytes(self) -> None:
        archive = self.archive("solid")
        area = archive.reading.areas["data"]
        self.assertEqual(
            archive.source.read(area.start, area.stored),
            b"".join(plan(archive.reading, Edit()).pieces[1].chunks())[: area.stored],
        )

    def test_sizes_that_never_settle_get_room_to_spare(self) -> None:
        family, archive = FAMILIES["secret"], self.archive("secret")
        before = family.load(family.make(family.files))
        with patch("volvex.layout.write.planner.ROUNDS", 0), Spool() as spool:
            for size in (1, 500, 70_000):
                made = changed(archive, spool, {"tide.txt": b"3" * size}, {f"new-{size}.txt": b"4" * size}, set())
                self.assertEqual(family.load(made), {**before, "tide.txt": b"3" * size, f"new-{size}.txt": b"4" * size})

    def test_an_empty_file_may_be_stored_as_nothing_in_any_codec(self) -> None:
        text = FAMILIES["parents"].layout.replace(" wrapped in xtea(key from md5 of name, tail zeros)", "")
        head = struct.pack("<4sHHI", b"PRNT", 1, 1, 23)
        archive = archive_of(text, head + b"\x00dry\0" + bytes(6) + b"\xff\x00")
        self.assertEqual(archive.content(0), b"")
        self.assertIsNone(prove(archive.reading).difference)

    def test_a_large_entry_behind_padding(self) -> None:
        family = FAMILIES["parents"]
        with patch("volvex.archive.archive.WHOLE", 100):
            archive = archive_of(family.layout, family.make(family.files))
            self.assertEqual(contents(archive), family.load(family.make(family.files)))
            self.assertEqual(b"".join(archive.chunks(0)), family.files[0][1])

    def test_the_beginning_of_content_in_blocks_needs_only_the_first(self) -> None:
        family = FAMILIES["keyed"]
        files = (("a.txt", b"The stair is not dry.\n" * 40_000),)
        archive = archive_of(family.layout, family.make(files))
        with patch.object(archive.source, "_read", wraps=archive.source._read) as reading:
            self.assertEqual(archive.beginning(0, 9), b"The stair")
        self.assertLess(max(call.args[1] for call in reading.call_args_list), 10_000)

    def test_what_parts_hold_is_let_go_with_the_archive(self) -> None:
        family = FAMILIES["solid"]
        with patch("volvex.source.LazySource.HELD", 10):
            with archive_of(family.layout, family.make(family.files)) as archive:
                self.assertEqual(contents(archive), family.load(family.make(family.files)))
                source = archive.reading.content_source
            with self.assertRaises(ValueError):
                source.read(0, 1)

    def test_many_new_entries(self) -> None:
        for name in ("tree", "nested", "keyed", "package"):
            with self.subTest(name), Spool() as spool:
                family, archive = FAMILIES[name], self.archive(name)
                added = {
                    f"{number:016x}"
                    if name == "keyed"
                    else f"ghost-{number}.bell"
                    if name == "package"
                    else f"lamps/{number}.txt": b"%d" % number
                    for number in range(40)
                }
                made = changed(archive, spool, {}, added, set())
                self.assertEqual(family.load(made), {**family.load(family.make(family.files)), **added})

    def test_a_wrong_key_is_told(self) -> None:
        family = FAMILIES["secret"]
        with self.assertRaises(FormatError) as caught:
            archive_of(family.layout.replace("13 57 9b", "13 57 9c"), family.make(family.files))
        self.assertIn("index cannot be opened", caught.exception.message)
        self.assertIn("wrapped in another way", caught.exception.asked)

    def test_folders_in_a_circle(self) -> None:
        family = FAMILIES["tree"]
        data = bytearray(family.make(family.files))
        data[16 + 12 + 4 : 16 + 12 + 8] = b"\x01\x00\x01\x00"  # the second folder holds itself
        with self.assertRaises(FormatError) as caught:
            archive_of(family.layout, bytes(data))
        self.assertIn("lies in itself", caught.exception.message)

    def test_a_sum_over_the_file_is_verified_by_the_proof(self) -> None:
        family = FAMILIES["whole"]
        data = bytearray(family.make(family.files))
        data[-1] ^= 1
        with self.assertRaises(FormatError) as caught:
            prove(archive_of(family.layout, bytes(data)).reading)
        self.assertEqual((caught.exception.field, caught.exception.offset), ("head.sum", 6))

    def test_a_hash_of_a_name_is_verified_by_the_proof(self) -> None:
        family = FAMILIES["differ"]
        with self.assertRaises(FormatError) as caught:
            prove(
                archive_of(family.layout.replace("of lower name", "of upper name"), family.make(family.files)).reading
            )
        self.assertEqual(caught.exception.field, "table[0].hash")


if __name__ == "__main__":
    unittest.main()
