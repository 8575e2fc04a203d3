"""The house: imports run one way, modules stay small, nothing private leaks."""

import ast
import re
from collections import Counter
from functools import cache
from pathlib import Path

import pytest

ROOT = Path(__file__).parent.parent / "escalera"
# each room may import the rooms named, itself, and the foundations
MAY = {
    "core": set(),
    "meters": {"core"},
    "sound": {"meters", "core"},
    "listen": {"meters", "core"},
    "formats": {"core"},
    "store": {"core"},
    "services": {"store", "formats", "listen", "sound", "meters", "core"},
    "web": {"services", "store", "formats", "core"},
    "cli": {"services", "formats", "sound", "meters", "core", "web"},
}
# the rooms of the core, each of which may import those before it
CORE_ORDER = (
    "words", "time", "theory", "performance", "palette", "rhythm", "lines", "samples", "document", "reading", "voices", "joins", "energy", "bench", "edits", "moves", "validation", "checks", "balance", "layout",
    "ideas", "study", "handing", "feedback", "prompts", "planning", "sets", "tasks", "drills", "logbook", "commands",
)  # fmt: skip
FOUNDATIONS = {"cleaning", "errors", "lazy_dataclasses", "settings", ""}
BARRED = {
    "core": ("flask", "sqlalchemy", "soundfile", "numba", "pathlib", "os", "io"),
    "meters": ("flask", "sqlalchemy"),
    "sound": ("flask", "sqlalchemy"),
    "listen": ("flask", "sqlalchemy", "soundfile"),
}


@cache
def parsed(path):
    return ast.parse(path.read_text())


@cache
def imports(path):
    nodes = (node for node in ast.walk(parsed(path)) if isinstance(node, ast.Import | ast.ImportFrom))
    found = (named(node, path.relative_to(ROOT.parent)) for node in nodes)
    return [name for names in found for name in names]


def named(node, path):
    """What an import names; nothing for any other node."""
    package = path.with_suffix("").parts
    if isinstance(node, ast.Import):
        yield from (alias.name for alias in node.names)
    elif isinstance(node, ast.ImportFrom):
        base = ".".join(package[: len(package) - node.level]) + "." if node.level else ""
        yield from (f"{base}{node.module or ''}.{alias.name}" for alias in node.names)


@pytest.mark.parametrize("room", MAY)
def test_imports_run_one_way(room):
    wrong = []
    for path in (ROOT / room).rglob("*.py"):
        if "migrations" in path.parts:
            continue
        for name in imports(path):
            parts = name.split(".")
            if parts[0] == "escalera":
                target = (
                    parts[1]
                    if len(parts) > 1 and (ROOT / parts[1]).is_dir()
                    else (parts[1] if len(parts) > 1 and parts[1] in FOUNDATIONS else "")
                )
                if target not in MAY[room] | {room} | FOUNDATIONS:
                    wrong.append(f"{path.name} imports {name}")
            elif parts[0] in BARRED.get(room, ()):
                wrong.append(f"{path.name} imports {name}")
    assert not wrong


def at_the_top(path):
    """What a module imports as soon as it is imported."""
    tree = parsed(path)
    return {name for node in tree.body for name in named(node, path.relative_to(ROOT.parent))}


def test_a_start_waits_for_no_compiler_and_no_science():
    """Pages come before sound: what the pages import takes neither the compiler of the kernels nor signal processing along."""
    waiting, seen, found = ["escalera.web", "escalera.services.studio"], set(), set()
    while waiting:
        name = waiting.pop()
        path = ROOT.parent.joinpath(*name.split("."))
        path = path / "__init__.py" if path.is_dir() else path.with_suffix(".py")
        if name in seen or not path.exists():
            continue
        seen.add(name)
        for each in at_the_top(path):
            parts = each.split(".")
            if parts[0] == "escalera":
                waiting += [".".join(parts[:i]) for i in range(2, len(parts) + 1)]
            elif parts[0] in ("numba", "scipy", "soundfile"):
                found.add(f"{name} imports {each}")
    assert len(seen) > 200 and not found


def test_signal_processing_is_loaded_for_rare_work_only():
    """It takes 50 MB in a server that has used it once: listening, measuring and the demo do without."""
    loading = {p.stem for p in ROOT.rglob("*.py") for name in imports(p) if name.startswith("scipy.signal")}
    assert loading == {"alignment", "study_hearing", "returned_sound", "recording_files"}


def test_rooms_of_the_core_import_only_those_before_them():
    assert {p.name for p in (ROOT / "core").iterdir() if p.is_dir() and p.name != "__pycache__"} == set(CORE_ORDER)
    wrong = []
    for place, room in enumerate(CORE_ORDER):
        for path in (ROOT / "core" / room).rglob("*.py"):
            parts = [name.split(".") for name in imports(path) if name.startswith("escalera.core.")]
            wrong += [f"{path.name} imports {'.'.join(p)}" for p in parts if p[2] in CORE_ORDER[place + 1 :]]
    assert not wrong


def test_no_file_and_no_class_is_named_twice():
    files = [p.stem for p in ROOT.rglob("*.py") if p.stem != "__init__" and "migrations" not in p.parts]
    trees = [parsed(p) for p in ROOT.rglob("*.py")]
    classes = [node.name for tree in trees for node in tree.body if isinstance(node, ast.ClassDef)]
    screens = {p.stem for p in (ROOT / "web").glob("*.py")}
    assert not [n for n, times in Counter(files).items() if times > 1 and n not in screens]
    assert not [n for n, times in Counter(classes).items() if times > 1]


def test_foundations_import_nothing_of_the_program():
    for name in FOUNDATIONS - {""}:
        assert not [n for n in imports(ROOT / f"{name}.py") if n.startswith("escalera") and "cleaning" not in n]


def test_classes_of_fields_get_their_methods_late():
    """The library's own decorator takes a third of every start: all classes take the one that waits."""
    early = [p.name for p in ROOT.rglob("*.py") if re.search(r"from dataclasses import .*\bdataclass\b", p.read_text())]
    assert early == ["lazy_dataclasses.py"]


def test_modules_stay_small():
    large = {
        p.name: n
        for p in ROOT.rglob("*.py")
        if p.name != "profiles.py" and (n := len(p.read_text().splitlines())) > 500
    }
    assert not large


def test_functions_stay_small_but_for_kernels():
    long = {
        f"{path.name}: {node.name}": length
        for path in ROOT.rglob("*.py")
        if "kernels" not in path.parts and path.name != "kernels.py"
        for node in ast.walk(parsed(path))
        if isinstance(node, ast.FunctionDef) and (length := node.end_lineno - node.lineno + 1) > 40
    }
    assert not long


def test_kernels_share_nothing_but_their_parts():
    """A helper in another file than `parts` could change without its callers being compiled again."""
    for path in (ROOT / "sound" / "kernels").glob("*.py"):
        other = [
            n
            for n in imports(path)
            if n.startswith("escalera") and not n.startswith(("escalera.sound.kernels.parts", "escalera.settings"))
        ]
        assert not other, path


def test_public_functions_say_what_they_take_and_give():
    """A sentence for every function of core, meters and sound that no registry describes; arrays have shapes."""
    silent, shapeless = [], []
    for path in [p for room in ("core", "meters", "sound") for p in (ROOT / room).rglob("*.py")]:
        body = parsed(path).body
        for node in [*body, *(inner for outer in body if isinstance(outer, ast.ClassDef) for inner in outer.body)]:
            if not isinstance(node, ast.FunctionDef) or node.name.startswith("_"):
                continue
            said = ast.get_docstring(node) or ""
            takes_arrays = "NDArray" in ast.unparse(node.args) + ast.unparse(node.returns or ast.Constant(None))
            if not said and node.col_offset == 0 and not node.decorator_list:
                silent.append(f"{path.name}: {node.name}")
            shape = re.search(
                r"[Ss]hape|\(2, n\)|\(n, |\(m, |\(channels, n\)|\((?:2|bars),|positions|[Aa]ny order|frames", said
            )
            if takes_arrays and "kernels" not in path.parts and not shape:
                shapeless.append(f"{path.name}: {node.name}")
    assert not silent and not shapeless


def test_no_two_stylesheets_say_what_one_class_is_by_itself():
    """All pages load all of them: a class that two screens use for two things breaks the one that was there before."""
    where: dict[str, set[str]] = {}
    for path in (ROOT / "web" / "static").glob("*.css"):
        text = re.sub(r"/\*.*?\*/", "", path.read_text(), flags=re.S)
        text = re.sub(r"@media[^{]*\{(?:[^{}]*\{[^{}]*\})*[^{}]*\}", "", text)
        for selectors in re.findall(r"(?:^|\})([^{}@]+)\{", text):
            for alone in re.findall(r"^\s*\.([a-z0-9-]+)\s*$", selectors.replace(",", "\n"), re.M):
                where.setdefault(alone, set()).add(path.name)
    assert len(where) > 200 and not {name: files for name, files in where.items() if len(files) > 1}
