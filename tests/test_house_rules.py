"""Rules of this house, each with a sample that must fail."""

import ast
import builtins
import importlib
import re
import subprocess
import sys
from collections.abc import Iterable
from pathlib import Path
from typing import Any

import pytest

SOURCE = Path(__file__).parents[1] / "src" / "upright_bolt"
FILES = sorted(SOURCE.rglob("*.py"))
CLASSES = {name for path in FILES for name in re.findall(r"^ *class (\w+)", path.read_text(), re.MULTILINE)}
LONGEST_FILE = 420
LONGEST_FUNCTION = 60
KERNEL_ROOTS = ("/sys/", "/proc/", "/dev/")
TABLES = ("metadata", "connection", "runs", "telemetry", "slices", "errors", "events")  # the database's own form


def too_long_file(text: str) -> list[str]:
    return [f"{len(text.splitlines())} lines"] if len(text.splitlines()) > LONGEST_FILE else []


def too_long_functions(text: str) -> list[str]:
    found = []
    for node in ast.walk(ast.parse(text)):
        if (
            isinstance(node, ast.FunctionDef | ast.AsyncFunctionDef)
            and node.end_lineno - node.lineno >= LONGEST_FUNCTION
        ):
            found.append(node.name)
    return found


def kernel_literals(text: str) -> list[str]:
    tree = ast.parse(text)
    nodes: Iterable[Any] = ast.walk(tree)
    words = {id(node.body[0].value) for node in nodes if _has_docstring(node)}
    return [
        node.value
        for node in ast.walk(tree)
        if isinstance(node, ast.Constant)
        and isinstance(node.value, str)
        and id(node) not in words
        and node.value.startswith(KERNEL_ROOTS)
    ]


def _has_docstring(node: Any) -> bool:
    body = getattr(node, "body", None)
    return (
        isinstance(body, list)
        and bool(body)
        and isinstance(body[0], ast.Expr)
        and isinstance(body[0].value, ast.Constant)
    )


def qt_imports(text: str) -> list[str]:
    found = []
    for node in ast.walk(ast.parse(text)):
        names = [a.name for a in node.names] if isinstance(node, ast.Import) else []
        names += [node.module or ""] if isinstance(node, ast.ImportFrom) else []
        found += [name for name in names if name.split(".")[0] in ("PyQt6", "pyqtgraph")]
    return found


def silent_raises(text: str) -> list[str]:
    """Public functions that raise without saying so; commands aside, whose docstrings are their help text."""
    found = []
    for node in ast.walk(ast.parse(text)):
        if not isinstance(node, ast.FunctionDef | ast.AsyncFunctionDef) or node.name.startswith("_"):
            continue
        inner = [f for f in ast.walk(node) if isinstance(f, ast.FunctionDef) and f is not node]
        nested = {id(n) for f in inner for n in ast.walk(f)}
        raised = [
            n.exc for n in ast.walk(node) if isinstance(n, ast.Raise) and n.exc is not None and id(n) not in nested
        ]
        raised = [exc for exc in raised if not isinstance(exc, ast.Name)]
        command = any("Context" in ast.unparse(arg.annotation) for arg in node.args.args if arg.annotation)
        if raised and not command and "aise" not in (ast.get_docstring(node) or ""):
            found.append(node.name)
    return found


def unknown_raises(text: str) -> list[str]:
    """Errors that a docstring tells of and that do not exist."""
    told = []
    for node in ast.walk(ast.parse(text)):
        if isinstance(node, ast.FunctionDef | ast.AsyncFunctionDef | ast.ClassDef | ast.Module):
            words = ast.get_docstring(node) or ""
            told += re.findall(r"\bRaises?\s([A-Z]\w+(?:(?:,| or|, or)\s+[A-Z]\w+)*)", words)
            told += re.findall(r"^    ([A-Z]\w+):", words.partition("Raises:\n")[2], re.MULTILINE)
    names = {name for one in told for name in re.split(r",\s+or\s+|,\s+|\s+or\s+", one)}
    known = CLASSES | set(dir(builtins)) | set(re.findall(r"\.(\w+)", text))  # the last: of a library
    return sorted(names - known)


def module_state(text: str) -> list[str]:
    """Names bound at module level to something that can change and is not written in capitals."""
    found = []
    for node in ast.parse(text).body:
        if not isinstance(node, ast.Assign) or not isinstance(node.value, ast.List | ast.Dict | ast.Call):
            continue
        names = [target.id for target in node.targets if isinstance(target, ast.Name)]
        found += [name for name in names if not name.strip("_").isupper() and name not in TABLES]
    return found


def lowered_names(text: str) -> list[str]:
    """Calls that raise a first letter and lower all others, those of names among them."""
    return re.findall(r"\.capitalize\(\)|\.title\(\)", text)


def outside(folder: str) -> list[Path]:
    return [path for path in FILES if folder not in path.parts]


@pytest.mark.parametrize(
    ("rule", "files", "sample"),
    [
        (too_long_file, FILES, "x = 1\n" * 500),
        (too_long_functions, FILES, "def f():\n" + "    x = 1\n" * 61),
        (kernel_literals, [f for f in FILES if f.name != "paths.py"], "open('/sys/class/hwmon')"),
        (qt_imports, outside("desktop"), "def f():\n    from PyQt6.QtCore import QObject"),
        (module_state, FILES, "cache = {}"),
        (lowered_names, FILES, "name.capitalize()"),
        (unknown_raises, FILES, "def f():\n    '''Return x. Raises BadInput or NoSuch.'''"),
        (silent_raises, FILES, "def f():\n    '''Return x.'''\n    raise BadInput(1)"),
    ],
)
def test_rule_holds_and_can_fail(rule, files, sample):
    assert rule(sample), "the rule does not notice its own sample"
    broken = {str(path.relative_to(SOURCE)): found for path in files if (found := rule(path.read_text()))}
    assert broken == {}


def test_the_core_works_with_qt_out_of_reach():
    code = (
        "import sys, pkgutil, importlib\n"
        "class Wall:\n"
        "    def find_spec(self, name, path=None, target=None):\n"
        "        if name.split('.')[0] in ('PyQt6', 'pyqtgraph'):\n"
        "            raise ImportError(name + ' is out of access')\n"
        "sys.meta_path.insert(0, Wall())\n"
        "import upright_bolt\n"
        "for found in pkgutil.walk_packages(upright_bolt.__path__, 'upright_bolt.'):\n"
        "    if not any(part in found.name for part in ('.desktop', '.migrations.env', '__main__')):\n"
        "        importlib.import_module(found.name)\n"
        "try:\n"
        "    import upright_bolt.desktop.window\n"
        "except ImportError:\n"
        "    sys.exit(0)\n"
        "sys.exit('the wall has a hole')"
    )
    subprocess.run([sys.executable, "-c", code], check=True, capture_output=True)


def test_the_layers_are_kept():
    result = subprocess.run(
        [Path(sys.executable).with_name("lint-imports")],
        cwd=SOURCE.parents[1],
        capture_output=True,
        text=True,
        check=False,
    )
    assert result.returncode == 0, result.stdout
    assert "4 kept, 0 broken" in result.stdout


def test_every_fault_that_is_planted_on_the_emulated_kernel_still_applies(monkeypatch):
    monkeypatch.syspath_prepend(str(Path(__file__).parent / "kernel"))
    faults = importlib.import_module("faults")
    gone = [one.name for one in faults.FAULTS if one.right not in (SOURCE / one.file).read_text()]
    assert gone == [], "their text in tests/kernel/faults.py is no text of the program any more"
