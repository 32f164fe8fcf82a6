"""Run the measurements: `python3 dev.py measure [--rounds N] [NAME ...]`."""

from __future__ import annotations

import argparse
import json
import os
import platform
import shutil
import subprocess
import sys
from pathlib import Path

from benchmarks import archives, data, model_cases, mods, names, picture_cases, sound_cases
from benchmarks.against import worse_than
from benchmarks.page import keep
from benchmarks.timing import Result, compare

HERE = Path(__file__).parent
WORK = HERE / "work"
VOLVEX = str(Path(sys.executable).parent / "volvex")


def unpack(work: Path, rounds: int) -> Result:
    target = work / "out"
    ours = [VOLVEX, "unpack", str(work / "game/data/main.kwp"), "--to", str(target)]
    theirs = ["unzip", "-q", str(work / "same.zip"), "-d", str(target)]
    result = compare("unpack 12,400 entries / unzip", ours, theirs, rounds, lambda: _clear(target), "0.25")
    _clear(target)
    return result


def build(work: Path, rounds: int) -> Result:
    return _build("build, one entry changed / cp", work, "game", rounds)


def build_large(work: Path, rounds: int) -> Result:
    return _build("the same with 4 GB / cp", work, "large", rounds)


def _build(name: str, work: Path, game: str, rounds: int) -> Result:
    bench, copy, archive = work / "bench", work / "copy.kwp", work / game / "data/main.kwp"
    _clear(bench)
    row = ["data/main.kwp/rules/lamps.xml", "--row", "fresnel_3", "range=14", "oil=3.123456"]
    for words in (["bench", str(work / game), str(bench)], ["set", *row, "--bench", str(bench)]):
        subprocess.run([VOLVEX, *words], check=True, stdout=subprocess.DEVNULL)
    ours, theirs = [VOLVEX, "build", "--bench", str(bench)], ["cp", str(archive), str(copy)]

    def clear() -> None:
        _clear(copy)
        _clear(bench / "built")

    result = compare(name, ours, theirs, rounds, clear, "1.3")
    clear()
    return result


def listing(work: Path, rounds: int) -> Result:
    ours, theirs = [VOLVEX, "list", str(work / "many.kwp")], ["unzip", "-l", str(work / "many.zip")]
    return compare("list 500,000 entries / unzip -l", ours, theirs, rounds, lambda: None, "1.0")


def start(work: Path, rounds: int) -> Result:
    ours, theirs = [VOLVEX, "--version"], [sys.executable, "-c", "pass"]
    return compare("volvex --version / python -c pass", ours, theirs, rounds * 4, lambda: None, "0.1 s")


def small(work: Path, rounds: int) -> Result:
    game = work / "small-game"
    if not game.is_dir():
        subprocess.run([sys.executable, "-m", "kelpwick", "make", str(game)], check=True, stdout=subprocess.DEVNULL)
    ours, theirs = [VOLVEX, "list", str(game / "data/main.kwp/rules")], [sys.executable, "-c", "import numpy"]
    return compare("list a small archive / import numpy", ours, theirs, rounds * 4, lambda: None, "0.2 s")


def pooled(work: Path, rounds: int) -> Result:
    return _listing("list 1,000,000 fixed records, pool / plain loop", work / "pooled.bin", rounds)


def variable(work: Path, rounds: int) -> Result:
    return _listing("list 1,000,000 records of changing size / plain loop", work / "variable.bin", rounds)


def _listing(name: str, file: Path, rounds: int) -> Result:
    return compare(
        name,
        [VOLVEX, "list", str(file)],
        [sys.executable, str(HERE / "plain.py"), str(file)],
        rounds,
        lambda: None,
        "1.5 s",
    )


def rebuild(work: Path, rounds: int) -> Result:
    """One entry changed in an archive of fixed records of 3.6 GB, built again on a bench, against copying the file."""
    bench, copy, archive = work / "deep-bench", work / "copy.bin", work / "deep" / "deep.bin"
    _clear(bench)
    new = work / "new.ring"
    new.write_bytes(b"RING" + bytes(1_300_000))
    entry = "deep.bin/bells/ring-00007.ring"
    for words in (["bench", str(work / "deep"), str(bench)], ["swap", entry, str(new), "--bench", str(bench)]):
        subprocess.run([VOLVEX, *words], check=True, stdout=subprocess.DEVNULL)

    def clear() -> None:
        _clear(copy)
        _clear(bench / "built")

    result = compare(
        "build, fixed records, 3.6 GB / cp",
        [VOLVEX, "build", "--bench", str(bench)],
        ["cp", str(archive), str(copy)],
        rounds,
        clear,
        "1.3",
    )
    clear()
    return result


def zip_list(work: Path, rounds: int) -> Result:
    ours, theirs = [VOLVEX, "list", str(work / "many.zip")], ["unzip", "-l", str(work / "many.zip")]
    return compare("list a ZIP of 500,000 / unzip -l", ours, theirs, rounds, lambda: None, "1.0")


def zip_unpack(work: Path, rounds: int) -> Result:
    target = work / "out"
    ours = [VOLVEX, "unpack", str(work / "same.zip"), "--to", str(target)]
    theirs = ["unzip", "-q", str(work / "same.zip"), "-d", str(target)]
    result = compare("unpack a ZIP of 12,400 / unzip", ours, theirs, rounds, lambda: _clear(target), "0.25")
    _clear(target)
    return result


def sparse(work: Path, rounds: int) -> Result:
    """One entry out of 20 GB."""
    archives.sparse_zip(work / "sparse.zip", 20_000_000_000)
    ours = [VOLVEX, "show", "--raw", f"{work / 'sparse.zip'}/rules/1.txt"]
    theirs = ["unzip", "-p", str(work / "sparse.zip"), "rules/1.txt"]
    return compare("one entry of 20 GB / unzip -p", ours, theirs, rounds, lambda: None, "300 MB")


def nested(work: Path, rounds: int) -> Result:
    """A change three archives deep."""
    archives.nested(work / "nested")
    bench, entry = work / "nested-bench", "/".join(archives.NAMES)
    _clear(bench)
    new = work / "new.txt"
    new.write_bytes(b"range 14\n" * 2000)
    archives.bench_of(VOLVEX, work / "nested", bench)
    subprocess.run([VOLVEX, "swap", entry, str(new), "--bench", str(bench)], check=True, stdout=subprocess.DEVNULL)
    result = compare(
        "change three archives deep / repack",
        [VOLVEX, "build", "--bench", str(bench)],
        archives.repacked(work),
        rounds,
        lambda: _clear(bench / "built"),
        "0.5",
    )
    _clear(bench / "built")
    return result


def in_place(work: Path, rounds: int) -> Result:
    """The same change in 10 GB and in 100 MB, the originals being safe already."""
    sides = []
    for name, size in (("huge", 10_000_000_000), ("small", 100_000_000)):
        archives.sparse_zip(work / name / "night.zip", size)
        bench = work / f"{name}-bench"
        archives.bench_of(VOLVEX, work / name, bench)
        sides.append((bench, [VOLVEX, "build", "--in-place", "--bench", str(bench)]))
    turn = 0

    def change() -> None:
        nonlocal turn
        turn += 1
        for bench, _ in sides:
            new = work / "new.txt"
            new.write_bytes(f"night {turn}\n".encode() * 3000)
            subprocess.run(
                [VOLVEX, "swap", "night.zip/rules/1.txt", str(new), "--bench", str(bench)],
                check=True,
                stdout=subprocess.DEVNULL,
            )

    result = compare("build --in-place, 10 GB / 100 MB", sides[0][1], sides[1][1], rounds, change, "1.0")
    for name in ("huge", "small"):
        subprocess.run([VOLVEX, "restore", str(work / name)], check=True, stdout=subprocess.DEVNULL)
    return result


def survey(work: Path, rounds: int) -> Result:
    """The second survey of 100,000 files and 100 GB."""
    archives.many_files(work / "files")
    ours = [VOLVEX, "survey", str(work / "files")]
    theirs = ["find", str(work / "files"), "-type", "f", "-printf", "%s %T@ %p\\n"]
    return compare("survey 100,000 files again / find", ours, theirs, rounds, lambda: None, "seconds")


def survey_first(work: Path, rounds: int) -> Result:
    """The first survey of 4,000 small files of no known format, against reading them."""
    archives.loose_files(work / "loose")
    ours = [VOLVEX, "survey", str(work / "loose"), "--refresh"]
    theirs = ["find", str(work / "loose"), "-type", "f", "-exec", "sha256sum", "{}", "+"]
    return compare("survey 4,000 unknown files / sha256sum", ours, theirs, rounds, lambda: None, "2 ms a file")


def names_match(work: Path, rounds: int) -> Result:
    """A million names matched against 100,000 keys, made into keys again."""
    archive, dictionary = names.dictionary(work)
    ours = [VOLVEX, "list", str(archive)]
    theirs = [sys.executable, str(HERE / "plain_names.py"), str(archive), str(dictionary)]
    memory = work / "home" / "cache" / "names"
    return compare("1,000,000 names on 100,000 keys / dict", ours, theirs, rounds, lambda: _clear(memory), "1 s")


def names_again(work: Path, rounds: int) -> Result:
    archive, dictionary = names.dictionary(work)
    ours = [VOLVEX, "list", str(archive)]
    theirs = [sys.executable, str(HERE / "plain_names.py"), str(archive), str(dictionary)]
    return compare("the same, the keys remembered / dict", ours, theirs, rounds, lambda: None, "1 s")


def mine(work: Path, rounds: int) -> Result:
    """Reading 700 MB for names, against the strings that a common program finds in the same content."""
    folder, out, home = names.hunt(work), work / "plain-content", work / "home"
    if not out.exists():
        subprocess.run([VOLVEX, "unpack", str(folder), "--to", str(out)], check=True, stdout=subprocess.DEVNULL)

    def clear() -> None:
        _clear(home / "names" / "found.txt")

    ours = [VOLVEX, "names", "mine", "--refresh", str(folder)]
    theirs = ["sh", "-c", f"find {out} -type f -print0 | xargs -0 strings -n 4"]
    result = compare("mine 700 MB / strings on the unpacked", ours, theirs, rounds, clear, "")
    clear()
    return result


def data_table(work: Path, rounds: int) -> Result:
    """A binary table opened, filtered, and its first page shown."""
    file = data.table(work)
    ours = [VOLVEX, "show", str(file), "--where", "good == 'colza' and price > 890"]
    theirs = [sys.executable, str(HERE / "plain_data.py"), "table", str(file)]
    return compare("a page of 1,000,000 x 20 filtered / NumPy", ours, theirs, rounds, lambda: None, "2 s")


def data_csv(work: Path, rounds: int) -> Result:
    """The same table to CSV and back, every value checked."""
    file, out, again = data.table(work), work / "stock.csv", work / "stock-again.tbl"
    ours = [
        "sh",
        "-c",
        f"{VOLVEX} convert {file} {out} --overwrite && {VOLVEX} convert {out} {again} --like {file} --overwrite",
    ]
    theirs = [sys.executable, str(HERE / "plain_data.py"), "csv", str(file), str(work / "plain.csv")]
    result = compare("1,000,000 x 20 to CSV and back / pandas", ours, theirs, rounds, lambda: None, "2.0")
    if file.read_bytes() != again.read_bytes():
        raise SystemExit("the table did not come back as it was")
    return result


def data_xml(work: Path, rounds: int) -> Result:
    """One value set in XML of 100 MB on a bench."""
    folder, bench = data.rules(work), work / "rules-bench"
    _clear(bench)
    for words in (["bench", str(folder), str(bench)], ["take", "stock.xml", "--bench", str(bench)]):
        subprocess.run([VOLVEX, *words], check=True, stdout=subprocess.DEVNULL)
    ours = ["sh", "-c", f"{VOLVEX} set stock.xml --row barrel_300000 price=1.$(date +%N) --bench {bench}"]
    theirs = [sys.executable, str(HERE / "plain_data.py"), "xml", str(folder / "stock.xml")]
    result = compare("one set in 100 MB of XML / lxml parse", ours, theirs, rounds, lambda: None, "3.0")
    _clear(bench)
    return result


def data_text(work: Path, rounds: int) -> Result:
    """A text table searched: key, use and text of each hit."""
    file = data.texts(work)
    ours = [VOLVEX, "find", str(file), "--text", "Barrel 123456 "]
    return compare(
        "200,000 texts searched / grep", ours, ["grep", "-c", "Barrel 123456 ", str(file)], rounds, lambda: None, "1 s"
    )


def _mods(work: Path) -> tuple[Path, list[str]]:
    """The game with 100 mods in its library, and how the program is called with that library."""
    game = work / "modded"
    mods.game(game)
    mods.mods(work / "mods", game.name)
    volvex = ["env", f"VOLVEX_HOME={work / 'mods-home'}", VOLVEX]
    if not (work / "mods-home" / "mods").is_dir():
        added = [str(path) for path in sorted((work / "mods").iterdir()) if path.is_dir()]
        subprocess.run([*volvex, "mod", "add", *added, "--game", str(game)], check=True, stdout=subprocess.DEVNULL)
    return game, volvex


def mods_list(work: Path, rounds: int) -> Result:
    game, volvex = _mods(work)
    theirs = ["find", str(work / "mods"), "-type", "f", "-exec", "cat", "{}", "+"]
    return compare(
        "mod list, 100 mods, 10,000 changes / cat",
        [*volvex, "mod", "list", "--game", str(game)],
        theirs,
        rounds,
        lambda: None,
        "1 s",
    )


def _alone(work: Path, game: Path, volvex: list[str], only: str = "") -> list[str]:
    """A command that builds the archives which the installed mods change (or the mod `only`), on a bench with what
    those mods make of the game: from nothing, without storing originals, and without installing."""
    bench = work / "modded-bench"
    _clear(bench)
    (staged,) = (work / "mods-home").glob("mods/*/work/files")
    subprocess.run([*volvex, "restore", str(game)], stdout=subprocess.DEVNULL, check=True)
    subprocess.run([*volvex, "bench", str(game), str(bench)], stdout=subprocess.DEVNULL, check=True)
    names = {path.relative_to(staged) for path in staged.rglob("*") if path.is_file()}
    if only:
        changed = json.loads(
            subprocess.run(
                [*volvex, "mod", "show", only, "--json", "--game", str(game)], capture_output=True, check=True
            ).stdout
        )
        archives = {one["path"].partition("/")[0] for one in changed}
        names = {name for name in names if name.parts[0] in archives}
    for name in names:
        (bench / "files" / name).parent.mkdir(parents=True, exist_ok=True)
        shutil.copy(staged / name, bench / "files" / name)
    return [
        "sh",
        "-c",
        'rm -rf "$1" && shift && "$@"',
        "sh",
        str(bench / "built"),
        *volvex,
        "build",
        "--bench",
        str(bench),
    ]


def mods_install(work: Path, rounds: int) -> Result:
    """All mods combined, built from nothing and installed, against building the archives that they change."""
    game, volvex = _mods(work)
    subprocess.run([*volvex, "install", str(game)], check=True, stdout=subprocess.DEVNULL)
    theirs = _alone(work, game, volvex)

    def clear() -> None:
        subprocess.run([*volvex, "restore", str(game)], check=True, stdout=subprocess.DEVNULL)
        for built in (work / "mods-home").glob("mods/*/work"):
            shutil.rmtree(built)

    result = compare(
        "install 100 mods in 1 GB / build alone", [*volvex, "install", str(game)], theirs, rounds, clear, "1.5"
    )
    clear()
    _clear(work / "modded-bench")
    return result


def mods_off(work: Path, rounds: int) -> Result:
    """One of the installed mods turned off or on, and installed, against building the archives that it changes."""
    game, volvex = _mods(work)
    subprocess.run([*volvex, "install", str(game)], check=True, stdout=subprocess.DEVNULL)
    theirs = _alone(work, game, volvex, "mod-007")
    subprocess.run([*volvex, "install", str(game)], check=True, stdout=subprocess.DEVNULL)
    turn = iter(["off", "on"] * 100)

    def before() -> None:
        subprocess.run(
            [*volvex, "mod", next(turn), "mod-007", "--game", str(game)], check=True, stdout=subprocess.DEVNULL
        )

    result = compare(
        "install, one of 100 mods off / build alone", [*volvex, "install", str(game)], theirs, rounds, before, "1.5"
    )
    subprocess.run([*volvex, "mod", "on", "mod-007", "--game", str(game)], check=True, stdout=subprocess.DEVNULL)
    subprocess.run([*volvex, "restore", str(game)], check=True, stdout=subprocess.DEVNULL)
    _clear(work / "modded-bench")
    return result


def comparing(work: Path, rounds: int) -> Result:
    old, new = mods.pair(work / "pair")
    script = '"$@"; test $? -eq 1'  # they differ, and say so by their status
    ours = ["sh", "-c", script, "sh", VOLVEX, "compare", str(old), str(new)]
    theirs = ["sh", "-c", 'cat "$@" | wc -c', "sh", str(old), str(new)]
    return compare("compare 2 x 1 GB, one entry changed / cat", ours, theirs, rounds, lambda: None, "3 s")


CASES = {
    "data-table": data_table,
    "data-csv": data_csv,
    "data-xml": data_xml,
    "data-text": data_text,
    "names": names_match,
    "names-again": names_again,
    "mine": mine,
    "zip-list": zip_list,
    "zip-unpack": zip_unpack,
    "sparse": sparse,
    "nested": nested,
    "in-place": in_place,
    "mods-list": mods_list,
    "mods-install": mods_install,
    "mods-off": mods_off,
    "compare": comparing,
    "survey": survey,
    "survey-first": survey_first,
    "pooled": pooled,
    "variable": variable,
    "rebuild": rebuild,
    "unpack": unpack,
    "build": build,
    "build-large": build_large,
    "list": listing,
    "start": start,
    "small": small,
    **picture_cases.CASES,
    **sound_cases.CASES,
    **model_cases.CASES,
}


def _clear(path: Path) -> None:
    if path.is_dir():
        shutil.rmtree(path)
    path.unlink(missing_ok=True)


def main() -> int:
    parser = argparse.ArgumentParser(prog="dev.py measure", description=__doc__)
    parser.add_argument("case", nargs="*", choices=[*CASES, []], help="all of them otherwise")
    parser.add_argument("--rounds", type=int, default=5)
    parser.add_argument("--work", type=Path, default=WORK, help="where to work; a folder in memory leaves the disk out")
    parser.add_argument(
        "--against", type=Path, metavar="RESULTS", help="compare with these; status 1 when any got worse"
    )
    options = parser.parse_args()
    missing = [name for name in ("unzip", "cp") if shutil.which(name) is None]
    if missing:
        raise SystemExit(f"measuring needs {', '.join(missing)} on the path")
    work = options.work.resolve()
    os.environ.pop("PYTHONDONTWRITEBYTECODE", None)  # an installed program is compiled once, not each time it starts
    os.environ["PYTHONPYCACHEPREFIX"] = str(work / "compiled")
    os.environ["VOLVEX_HOME"] = str(work / "home")  # the layouts of what is measured, and a memory of their own
    # in a process of its own: a child's peak memory starts from its parent's
    subprocess.run([sys.executable, "-m", "benchmarks.material", str(work)], check=True)
    data.home(work)
    results = [CASES[name](work, options.rounds) for name in options.case or CASES]
    _print(results)
    worse = worse_than(results, options.against) if options.against is not None else []
    print("\n".join(worse))
    keep(results, {} if options.case else _about())
    print("written to benchmarks/results.json and docs/performance.md")
    return 1 if worse else 0


def _print(results: list[Result]) -> None:
    print(f"{'':<36}{'ratio':>7}{'from-to':>13}{'aim':>8}{'ours':>10}{'theirs':>10}{'memory':>9}{'theirs':>9}")
    for result in results:
        spread = f"{result.low:.2f}-{result.high:.2f}"
        print(
            f"{result.name:<36}{result.ratio:>7.2f}{spread:>13}{result.aim:>8}{result.ours:>8.3f} s"
            f"{result.theirs:>8.3f} s"
            f"{result.our_memory / 1e6:>6.0f} MB{result.their_memory / 1e6:>6.0f} MB"
        )


def _about() -> dict[str, object]:
    """The machine, and what codecs and hashes do on one core."""
    from benchmarks.codecs import measure  # late: a child's peak memory starts from its parent's
    from benchmarks.names import measure as measure_names

    system = {"python": platform.python_version(), "system": platform.platform(), "cores": os.cpu_count()}
    return {**system, "codecs (MB/s)": measure(), "names (M/s)": measure_names()}


if __name__ == "__main__":
    sys.exit(main())
