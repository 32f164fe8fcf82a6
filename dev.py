#!/usr/bin/env python3
"""Set up and run the project's own jobs: demo, test, measure, lint.

Needs nothing but Python's standard library: makes `.venv` beside this file when it is
missing, installs the project into it, and runs the job there. Works on Linux, macOS, Windows.
"""

from __future__ import annotations

import argparse
import concurrent.futures
import hashlib
import json
import os
import re
import shutil
import subprocess
import sys
import tempfile
import time
import venv
from pathlib import Path

ROOT = Path(__file__).resolve().parent
VENV = ROOT / ".venv"
BIN = VENV / ("Scripts" if os.name == "nt" else "bin")
PYTHON = BIN / ("python.exe" if os.name == "nt" else "python")
STAMP = VENV / "installed-from"
TIMES = VENV / "test-times.json"
BATCH = 30.0  # seconds of modules that share a process
BYTES_A_SECOND = 1400  # of a test module, about
# seconds of small ones that take long; the codecs first, as what they compile is kept for all others
LONG = {"tests.test_codecs": 60.0, "tests.test_demo": 35.0, "tests.test_examples": 18.0, "tests.test_crashes": 24.0}


def prepare(extra: str) -> None:
    """Make the environment when it is missing, and renew it when pyproject.toml changed. `extra`: what of it is installed."""  # noqa: E501
    if sys.version_info < (3, 11):  # noqa: UP036 -- told in words before pip tells it in its own
        sys.exit(f"Volvex needs Python 3.11 or newer; this is {sys.version.split()[0]}")
    wanted = hashlib.sha256((ROOT / "pyproject.toml").read_bytes()).hexdigest()
    there = STAMP.read_text().split() if PYTHON.exists() and STAMP.exists() else []
    if there[:1] == [wanted] and (extra in there or "dev" in there):  # `dev` has all of the others
        return
    if not PYTHON.exists():
        print("making .venv", flush=True)
        venv.create(VENV, with_pip=True)
    print("installing the project and its dependencies into .venv", flush=True)
    subprocess.run([PYTHON, "-m", "pip", "install", "--quiet", "--editable", f"{ROOT}[{extra}]"], check=True)
    STAMP.write_text(f"{wanted} {extra}")


def prepare_validator() -> None:
    """Install the glTF validator for the tests that check models, where node is there; without it these tests are skipped."""  # noqa: E501
    folder, npm = ROOT / "tests" / "gltf", shutil.which("npm")
    lock, stamp = folder / "package-lock.json", folder / "node_modules" / "installed-from"
    if npm is None or shutil.which("node") is None:
        return
    wanted = hashlib.sha256(lock.read_bytes()).hexdigest()
    if stamp.exists() and stamp.read_text() == wanted:
        return
    if subprocess.run([npm, "ci", "--silent", "--no-audit", "--no-fund"], cwd=folder).returncode == 0:
        stamp.write_text(wanted)
    else:
        print("the glTF validator could not be installed: the tests that need it are skipped", flush=True)


def run(*words: str | Path) -> int:
    """Run a program of the environment in the project's root; its exit status."""
    return subprocess.run([str(word) for word in words], cwd=ROOT).returncode


def demo(rest: list[str]) -> int:
    return run(PYTHON, "-m", "volvex", "demo", *rest)


def measure(rest: list[str]) -> int:
    if rest[:1] == ["formats"]:
        return run(PYTHON, "-m", "benchmarks.formats", *rest[1:])
    return run(PYTHON, "-m", "benchmarks", *rest)


def pictures(rest: list[str]) -> int:
    return run(PYTHON, ROOT / "docs" / "pictures.py", *rest)


def man(rest: list[str]) -> int:
    return run(PYTHON, "-m", "volvex.command.ui.manual", ROOT / "docs" / "volvex.1", *rest)


def hook(rest: list[str]) -> int:
    """Have git run lint and tests before each commit; a hook that is there already stays."""
    folder = subprocess.run(
        ["git", "rev-parse", "--git-path", "hooks"], cwd=ROOT, text=True, capture_output=True, check=True
    ).stdout.strip()
    target = ROOT / folder / "pre-commit"
    if target.exists():
        print(f"{target} exists already: remove it first")
        return 1
    target.parent.mkdir(parents=True, exist_ok=True)
    shutil.copy(ROOT / ".ci" / "pre-commit", target)
    print(target)
    return 0


def fuzz(rest: list[str]) -> int:
    return run(PYTHON, "-m", "tests.fuzz", *rest)


def lint(rest: list[str]) -> int:
    checks: list[list[str | Path]] = [
        [PYTHON, "-m", "ruff", "check", "."],
        [PYTHON, "-m", "ruff", "format", "--check", "."],
        [PYTHON, "-m", "mypy"],
    ]
    return max([run(*check, *rest) for check in checks])


def run_modules(modules: list[str], environment: dict[str, str]) -> tuple[list[str], int, str, float]:
    """Run some test modules in a process: status, output, seconds."""
    began = time.monotonic()
    done = subprocess.run(
        [str(PYTHON), "-W", "error::ResourceWarning", "-m", "unittest", *modules],
        cwd=ROOT,
        text=True,
        stdout=subprocess.PIPE,
        stderr=subprocess.STDOUT,
        env=environment,
    )
    leaks = "ResourceWarning" in done.stdout  # printed where nobody can catch it: while an object is collected
    return modules, done.returncode or int(leaks), done.stdout, time.monotonic() - began


def counts(output: str) -> tuple[int, int, int]:
    """Tests run, failed and skipped, from what unittest printed."""
    ran = re.search(r"^Ran (\d+) test", output, re.M)
    numbers = {name: int(n) for name, n in re.findall(r"(failures|errors|skipped)=(\d+)", output)}
    failed = numbers.get("failures", 0) + numbers.get("errors", 0)
    return int(ran[1]) if ran else 0, failed, numbers.get("skipped", 0)


def in_memory() -> str | None:
    """A folder in memory for the tests' files, where the system has one with room: syncing to a disk shows nothing there."""  # noqa: E501
    folder = Path("/dev/shm")
    return str(folder) if folder.is_dir() and shutil.disk_usage(folder).free > 4 << 30 else None


def _guess(module: str) -> float:
    """The seconds that a module may take which has not run here: by the size of its file."""
    path = ROOT / f"{module.replace('.', '/')}.py"
    if module in LONG:
        return LONG[module]
    return path.stat().st_size / BYTES_A_SECOND if path.is_file() else BATCH


def batches(modules: list[str]) -> list[list[str]]:
    """The modules in the order of the time that each took when it last ran; short ones share a process, which takes a second to start."""  # noqa: E501
    try:
        known = json.loads(TIMES.read_text())
    except (OSError, ValueError):
        known = {}
    times = {module: known.get(module) or _guess(module) for module in modules}
    found: list[list[str]] = []
    for module in sorted(modules, key=lambda module: -times[module]):
        if found and sum(times[text] for text in found[-1]) + times[module] <= BATCH:
            found[-1].append(module)
        else:
            found.append([module])
    return found


def test(rest: list[str]) -> int:
    """Run every test module in a process of its own, as many at once as there are cores."""
    prepare_validator()
    modules = rest or sorted(f"tests.{file.stem}" for file in (ROOT / "tests").glob("test_*.py"))
    passed = failed = skipped = 0
    times: dict[str, float] = {}
    began = time.monotonic()
    with (
        tempfile.TemporaryDirectory(prefix="volvex-tests-", dir=in_memory()) as shared,
        concurrent.futures.ThreadPoolExecutor(os.cpu_count()) as pool,
    ):
        environment = {
            **os.environ,
            "TMPDIR": shared,
            "VOLVEX_TESTS_SHARED": shared,
            "PYTHONPYCACHEPREFIX": f"{shared}/compiled",
        }
        environment.pop("PYTHONDONTWRITEBYTECODE", None)
        runs = [pool.submit(run_modules, batch, environment) for batch in batches(modules)]
        for run_ in concurrent.futures.as_completed(runs):
            done, status, output, seconds = run_.result()
            ran, bad, left = counts(output)
            if status and not bad:
                bad = 1  # the module itself could not be run, or left a file open
            passed, failed, skipped = passed + max(0, ran - bad - left), failed + bad, skipped + left
            times |= {module: round(seconds / len(done), 1) for module in done}
            print(f"{'ok  ' if not status else 'FAIL'} {', '.join(done)}: {ran} tests, {seconds:.1f} s", flush=True)
            if status:
                print(output, flush=True)
    if not rest and VENV.is_dir():
        TIMES.write_text(json.dumps(times))
    print(f"{passed} passed, {failed} failed, {skipped} skipped in {time.monotonic() - began:.0f} s")
    return 1 if failed or not passed else 0


JOBS = {
    "pictures": pictures,
    "demo": demo,
    "test": test,
    "measure": measure,
    "fuzz": fuzz,
    "lint": lint,
    "man": man,
    "hook": hook,
}


def main() -> int:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument(
        "job",
        choices=JOBS,
        help="demo: the main job on the demo data; test: all tests; "
        "measure: the benchmarks (measure formats: formats drawn by chance); pictures: all of docs/screenshots; man: docs/volvex.1; fuzz: damage and interruptions by chance; lint: ruff and mypy; hook: a hook of git that runs lint and test",  # noqa: E501
    )
    options, rest = parser.parse_known_args()
    if options.job != "hook":
        prepare("all" if options.job == "demo" else "dev")
    return JOBS[options.job](rest)


if __name__ == "__main__":
    sys.exit(main())
