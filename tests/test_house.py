"""The house itself: floors, registries, documents, and what the core must never do."""

from __future__ import annotations

import ast
import functools
import gc
import re
import tomllib
import unittest
from pathlib import Path

from tests.books import laid_out
from tests.support import ROOT, SOURCE, archive_of
from volvex.command.ui.commands import COMMANDS, groups, summary_of
from volvex.command.ui.help import parser_of
from volvex.errors import FormatError, VolvexError
from volvex.layout.inspect.proof import prove
from volvex.layout.kinds import kind_names, kind_of
from volvex.layout.language.parser import parse_layout
from volvex.layout.write.checks import unwritable

FLOORS = ("source", "codec", "layout", "archive", "names", "data", "asset", "bench", "mods", "command")
PACKAGE = SOURCE / "volvex"


@functools.cache
def modules() -> list[tuple[Path, ast.Module]]:
    gc.disable()  # of the million nodes none goes
    try:
        return [(path, ast.parse(path.read_text(encoding="utf-8"))) for path in sorted(PACKAGE.rglob("*.py"))]
    finally:
        gc.freeze()
        gc.enable()


@functools.cache
def nodes(tree: ast.Module) -> list[ast.AST]:
    """All that a module is made of, walked through once for all tests."""
    return list(ast.walk(tree))


def floor_of(path: Path) -> str:
    parts = path.relative_to(PACKAGE).parts
    return parts[0] if len(parts) > 1 else ""


@functools.cache
def imports(tree: ast.Module) -> list[str]:
    found: list[str] = []
    for node in nodes(tree):
        if isinstance(node, ast.Import):
            found += [name.name for name in node.names]
        elif isinstance(node, ast.ImportFrom):
            found.append(node.module or "")
    return found


class Floors(unittest.TestCase):
    def test_a_floor_knows_only_those_below_it(self) -> None:
        for path, tree in modules():
            floor = floor_of(path)
            if not floor:
                continue
            for name in imports(tree):
                words = name.split(".")
                if words[0] == "volvex" and len(words) > 1 and words[1] in FLOORS:
                    self.assertLessEqual(
                        FLOORS.index(words[1]), FLOORS.index(floor), f"{path.relative_to(SOURCE)} imports {name}"
                    )

    def test_errors_import_nothing_of_ours(self) -> None:
        names = set(imports(ast.parse((PACKAGE / "errors.py").read_text(encoding="utf-8"))))
        self.assertEqual({name for name in names if name.startswith("volvex")}, set())

    def test_imports_form_no_circle(self) -> None:
        """Not even those within functions, or for type checking alone."""
        graph: dict[str, set[str]] = {}
        for path, tree in modules():
            name = ".".join(path.relative_to(SOURCE).with_suffix("").parts).removesuffix(".__init__")
            graph[name] = set()
            for node in nodes(tree):
                if isinstance(node, ast.ImportFrom) and node.module and node.module.startswith("volvex"):
                    for one in node.names:  # a module of a package, or a name of a module
                        inner = f"{node.module}.{one.name}"
                        file = SOURCE / (inner.replace(".", "/") + ".py")
                        graph[name].add(inner if file.exists() else node.module)
        self.assertEqual(len(graph), len(list(modules())))
        done: set[str] = set()

        def visit(name: str, above: tuple[str, ...]) -> None:
            self.assertNotIn(name, above, " -> ".join((*above, name)))
            if name not in done:
                for other in graph.get(name, ()):
                    visit(other, (*above, name))
                done.add(name)

        for name in graph:
            visit(name, ())

    def test_modules_and_functions_are_short(self) -> None:
        for path, tree in modules():
            where = path.relative_to(SOURCE).as_posix()
            self.assertLessEqual(len(path.read_text(encoding="utf-8").splitlines()), 500, where)
            for node in nodes(tree):
                if isinstance(node, ast.FunctionDef) and node.end_lineno is not None:
                    self.assertLessEqual(node.end_lineno - node.lineno + 1, 60, f"{where} {node.name}")

    def test_the_core_never_prints_exits_parses_arguments_or_reads_the_environment(self) -> None:
        for path, tree in modules():
            if floor_of(path) in ("", "command"):
                continue
            where = str(path.relative_to(SOURCE))
            names = set(imports(tree))
            self.assertFalse(names & {"argparse", "rich", "platformdirs", "pygments"}, where)
            self.assertFalse({name for name in names if name.startswith(("rich.", "volvex.command"))}, where)
            for node in nodes(tree):
                if isinstance(node, ast.Call) and isinstance(node.func, ast.Name):
                    self.assertNotIn(node.func.id, ("print", "input", "exit", "quit", "eval"), where)
                if isinstance(node, ast.Attribute):
                    self.assertNotIn(node.attr, ("environ", "getenv", "argv", "stdout", "stderr"), where)

    def test_code_is_generated_in_one_place_only(self) -> None:
        users = [
            path.name
            for path, tree in modules()
            for node in nodes(tree)
            if isinstance(node, ast.Call) and getattr(node.func, "id", "") in ("exec", "compile")
        ]
        self.assertEqual(users, ["codegen.py"])

    def test_no_broad_except_but_where_all_is_undone_and_raised_again(self) -> None:
        caught: list[str] = []
        for path, tree in modules():
            for node in nodes(tree):
                if isinstance(node, ast.ExceptHandler):
                    name = getattr(node.type, "id", None)
                    self.assertIsNotNone(node.type, f"{path.name}:{node.lineno}")
                    if name == "Exception":  # of the whole program, and of libraries, which promise nothing
                        caught.append(path.relative_to(SOURCE / "volvex").as_posix())
                    if name == "BaseException":
                        self.assertIsInstance(node.body[-1], ast.Raise, f"{path.name}:{node.lineno}")
        self.assertEqual(
            sorted(caught), ["apart.py", "command/ui/main.py", "library_errors.py", "library_errors.py", "registry.py"]
        )

    def test_every_module_says_what_it_is(self) -> None:
        for path, tree in modules():
            self.assertTrue(ast.get_docstring(tree), path.relative_to(SOURCE))


class Documents(unittest.TestCase):
    def text(self, name: str) -> str:
        return (ROOT / name).read_text(encoding="utf-8")

    def test_every_command_is_documented(self) -> None:
        text = self.text("docs/commands.md")
        for name in COMMANDS.names():
            self.assertIn(f"`{name.replace('.', ' ')}", text)
            self.assertTrue(summary_of(COMMANDS.load(name)).endswith("."), name)

    def test_commands_in_the_pages_have_the_options_that_are_shown(self) -> None:
        seen = 0
        for path in (ROOT / "README.md", ROOT / "CONTRIBUTING.md", *sorted((ROOT / "docs").glob("*.md"))):
            text = path.read_text(encoding="utf-8")
            lines = [line for block in re.findall(r"(?ms)^```\w*\n(.*?)^```", text) for line in block.splitlines()]
            for line in [*lines, *re.findall(r"`([^`\n]+)`", text)]:
                words = line.partition("  #")[0].split()
                if words[:1] != ["volvex"] or len(words) < 2 or words[1] in groups() or words[1].isupper():
                    continue
                if path.name == "extending.md":  # a command of another package
                    continue
                options = {
                    word.partition("=")[0].strip("'\"[]") for word in words[2:] if word.startswith(("--", "[--"))
                }
                if words[1].startswith("-") or words[1] == "help":
                    continue
                with self.subTest(f"{path.name}: {line}"):
                    parser = parser_of(words[1], COMMANDS.load(words[1]), 100)
                    known = {name for action in parser._actions for name in action.option_strings}
                    self.assertLessEqual(options, known)
                    seen += 1
        self.assertGreater(seen, 40)

    def test_every_dependency_is_justified(self) -> None:
        text = self.text("docs/dependencies.md")
        project = tomllib.loads(self.text("pyproject.toml"))["project"]
        extras = (line for lines in project["optional-dependencies"].values() for line in lines)
        for line in (*project["dependencies"], *(line for line in extras if not line.startswith("volvex["))):
            name = re.match(r"[A-Za-z0-9_-]+", line)
            assert name is not None
            self.assertIn(f"`{name[0]}`", text)

    def test_every_import_is_a_dependency(self) -> None:
        project = tomllib.loads(self.text("pyproject.toml"))["project"]
        extras = project["optional-dependencies"]
        lines = [
            *project["dependencies"],
            *(line for name in extras if name not in ("all", "dev") for line in extras[name]),
        ]
        declared = {re.split(r"[^A-Za-z0-9_-]", line)[0].replace("-", "_") for line in lines}
        declared |= {
            "pygments",
            "astc_encoder",
            "collada",
        }  # comes with rich; the packages astc-encoder-py and pycollada
        import sys

        for path, tree in modules():
            for name in imports(tree):
                root = {"PIL": "pillow"}.get(name.partition(".")[0], name.partition(".")[0])
                self.assertTrue(
                    root in declared | {"volvex", "kelpwick"} or root in sys.stdlib_module_names, f"{path}: {root}"
                )

    def test_every_kind_of_layout_is_documented(self) -> None:
        text = self.text("docs/layouts.md")
        for name in kind_names():
            self.assertIn(f"`{name}`", text)

    def test_links_lead_somewhere(self) -> None:
        for path in (ROOT / "README.md", *sorted((ROOT / "docs").glob("*.md"))):
            for link in re.findall(r"\]\(([^)#]+)\)", path.read_text(encoding="utf-8")):
                if "://" not in link:
                    self.assertTrue((path.parent / link).exists(), f"{path.name}: {link}")

    def test_pictures_are_few_and_all_linked(self) -> None:
        pictures = sorted((ROOT / "docs" / "screenshots").glob("*.png"))
        text = self.text("README.md")
        self.assertLess(len(pictures), 20)
        for picture in pictures:
            self.assertIn(picture.name, text)


class Architecture(unittest.TestCase):
    """docs/architecture.md names what exists, and leaves no folder out."""

    def setUp(self) -> None:
        self.text = (ROOT / "docs" / "architecture.md").read_text(encoding="utf-8")

    def test_every_folder_is_named(self) -> None:
        for folder in sorted(PACKAGE.rglob("*")):
            if folder.is_dir() and any(folder.glob("*.py")):
                self.assertIn(f"`{folder.relative_to(PACKAGE).as_posix()}/`", self.text)

    def test_every_function_and_file_of_the_flows_exists(self) -> None:
        named = re.findall(r"`([a-z_/]+\.py)` `(\w+)`", self.text)
        self.assertGreater(len(named), 20)
        for file, name in named:
            source = (PACKAGE / file).read_text(encoding="utf-8")
            self.assertRegex(source, rf"(?m)^(def|class) {name}\b", file)
        for file in re.findall(r"`([a-z_/]+\.py)`", self.text):
            self.assertTrue(list(PACKAGE.rglob(file.rpartition("/")[2])), file)

    def test_folders_of_the_table_exist(self) -> None:
        for folder in re.findall(r"(?m)^\| `([a-z/]+)/`", self.text):
            self.assertTrue((PACKAGE / folder).is_dir(), folder)


def _told_data(case: unittest.TestCase, layout: str, data: bytes) -> str:
    """The records of a table, of texts or of a scene, once they are proved."""
    document = laid_out(layout, data)
    case.assertIsNone(prove(document.reading).difference)
    return "; ".join(
        f"{sheet.name} {key}: " + " ".join(f"{name}={text}" for name, text in sheet.record(row).items())
        for sheet in document.sheets
        for row, key in enumerate(sheet.ids)
    )


class LayoutReference(unittest.TestCase):
    """Every example of docs/layouts.md: those with bytes are read and proved, those with an error must give it."""

    FENCE = re.compile(r"^```(\w+)([^\n]*)\n(.*?)^```$", re.M | re.S)

    def setUp(self) -> None:
        pages = [ROOT / "docs" / name for name in ("layouts-tutorial.md", "layouts.md", "recipes.md")]
        text = "\n".join(page.read_text(encoding="utf-8") for page in pages)
        self.fences = [(kind, about.strip(), body) for kind, about, body in self.FENCE.findall(text)]

    def test_examples_with_bytes(self) -> None:
        proved = 0
        for (kind, _, layout), (then, about, body) in zip(self.fences, self.fences[1:], strict=False):
            if kind == "layout" and then == "bytes":
                with self.subTest(layout.splitlines()[0]):
                    data = b"".join(bytes.fromhex(line.partition("|")[0]) for line in body.splitlines())
                    text = _told_data(self, layout, data) if " kind archive" not in layout else ""
                    if not text:
                        archive = archive_of(layout, data)
                        self.assertIsNone(prove(archive.reading).difference)
                        text = " ".join(
                            f"{name}={archive.content(row).decode()}" for row, name in enumerate(archive.names)
                        )
                    self.assertEqual(text, about)
                    proved += 1
        self.assertGreater(proved, 5)

    def test_examples_with_errors(self) -> None:
        wrong = 0
        for (kind, about, layout), (then, _, body) in zip(self.fences, self.fences[1:], strict=False):
            if kind == "layout" and about == "wrong":
                self.assertEqual(then, "error")
                with self.assertRaises(VolvexError) as caught:
                    parse_layout(layout, "my.layout")
                self.assertEqual("\n".join(caught.exception.lines()), body.strip())
                wrong += 1
        self.assertGreater(wrong, 1)

    def test_a_faulty_layout_gives_the_error_that_is_shown(self) -> None:
        number = next(at for at, (kind, about, _) in enumerate(self.fences) if (kind, about) == ("layout", "faulty"))
        (_, _, layout), (_, _, said) = self.fences[number : number + 2]
        body = next(body for kind, about, body in self.fences[number:] if kind == "bytes")
        data = b"".join(bytes.fromhex(line.partition("|")[0]) for line in body.splitlines())
        with self.assertRaises(FormatError) as caught:
            archive_of(layout, data, "isles.dat")
        self.assertEqual("\n".join(caught.exception.lines(author=True)), said.strip())

    def test_examples_of_several_files_are_sound(self) -> None:
        layouts = [layout for kind, about, layout in self.fences if (kind, about) == ("layout", "check")]
        self.assertTrue(layouts)
        for layout in layouts:
            self.assertEqual(unwritable(parse_layout(layout, "my.layout")), [])

    def test_every_meaning_is_in_the_index(self) -> None:
        text = (ROOT / "docs" / "layouts.md").read_text(encoding="utf-8")
        index = text.partition("## Index of meanings")[2]
        for name in kind_names():
            kind = kind_of(name)
            assert kind is not None
            words = getattr(kind, "facts", kind.ATTRIBUTES)  # those of several numbers once
            for word in (*words, *getattr(kind, "ROLES", ()), *kind.PARTS):
                self.assertIn(f"`{word}`", index, name)

    def test_contents_lead_to_headings(self) -> None:
        text = (ROOT / "docs" / "layouts.md").read_text(encoding="utf-8")
        headings = {
            re.sub(r"[^\w\- ]", "", one.lower()).replace(" ", "-") for one in re.findall(r"(?m)^## (.+)$", text)
        }
        self.assertEqual(headings - {"contents"}, set(re.findall(r"\(#([\w-]+)\)", text.partition("## Cheat")[0])))

    def test_every_word_of_the_grammar_is_explained(self) -> None:
        grammar = (PACKAGE / "layout" / "language" / "grammar.lark").read_text(encoding="utf-8")
        text = (ROOT / "docs" / "layouts.md").read_text(encoding="utf-8")
        for word in set(re.findall(r'"([a-z]+)"', grammar)):
            self.assertRegex(text, rf"`[^`]*\b{word}\b[^`]*`")


if __name__ == "__main__":
    unittest.main()
