"""Every word of the interface as it stands in the code, for the catalogues of other languages.

Templates mark theirs, and so do the scripts of the pages; Python says sentences by their keys.
"""

import ast
import re
import tomllib
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from django.template import Template
from django.templatetags.i18n import BlockTranslateNode, TranslateNode

SOURCE = Path(__file__).resolve().parents[2]
_IN_SCRIPT = re.compile(r"""\bword\("((?:[^"\\]|\\.)*)\"""")
_ENGLISH_OF_WORKER = re.compile(r"""\["((?:[^"\\]|\\.)*\{\w+\}(?:[^"\\]|\\.)*)", \{""")
_SAID_IN_WORKER = re.compile(r"""said: (?:[\w.]+ \|\| )?"((?:[^"\\]|\\.)*)\"""")
_IN_ARGUMENT = re.compile(r"""_\("([^"]*)"\)|\{% (?:key "[^"]+"|bar [\w.]+) "([^"]+)\"""")


def of_templates() -> set[tuple[str, ...]]:
    """(text,) or (singular, plural) of all that templates mark, as Django looks them up."""
    found: set[tuple[str, ...]] = set()
    for path in sorted(SOURCE.glob("sermovox/**/templates/**/*.html")):
        text = path.read_text(encoding="utf-8")
        found |= {(given or does,) for given, does in _IN_ARGUMENT.findall(text)}
        nodes: Any = Template(text).nodelist
        found |= {(node.filter_expression.var.literal,) for node in nodes.get_nodes_by_type(TranslateNode)}
        for node in nodes.get_nodes_by_type(BlockTranslateNode):
            forms = [node.render_token_list(tokens)[0] for tokens in (node.singular, node.plural) if tokens]
            found.add(tuple(forms))
    return found


def of_scripts() -> set[str]:
    """All that the scripts of the pages say."""
    found = set()
    for path in SOURCE.glob("sermovox/**/static/js/**/*.js"):
        text = path.read_text(encoding="utf-8")
        for pattern in (_IN_SCRIPT, _ENGLISH_OF_WORKER, _SAID_IN_WORKER):
            found |= {each.replace('\\"', '"') for each in pattern.findall(text) if each}
    return found


def keys_of_python(package: str) -> set[str]:
    """The keys of all sentences that a package says."""
    found: set[str] = set()
    for path in (SOURCE / package).rglob("*.py"):
        if "/tests/" not in path.as_posix():
            found |= set(_keys(ast.parse(path.read_text(encoding="utf-8"))))
    return found


def parameters_of_python(package: str) -> dict[str, list[tuple[str, set[str]]]]:
    """Where each key is said with literal parameters: (file and line, their names)."""
    found: dict[str, list[tuple[str, set[str]]]] = {}
    for path in (SOURCE / package).rglob("*.py"):
        if "/tests/" in path.as_posix():
            continue
        for node in _sayings(ast.parse(path.read_text(encoding="utf-8"))):
            if all(each.arg for each in node.keywords):
                for key in _literals(node.args[0]):
                    where = f"{path.relative_to(SOURCE)}:{node.lineno}"
                    found.setdefault(key, []).append((where, {each.arg or "" for each in node.keywords}))
    return found


def _keys(tree: ast.Module) -> Iterator[str]:
    for node in _sayings(tree):
        yield from _literals(node.args[0])


def _sayings(tree: ast.Module) -> Iterator[ast.Call]:
    for node in ast.walk(tree):
        if isinstance(node, ast.Call) and isinstance(node.func, ast.Name) and node.func.id == "Said":
            yield node


def _literals(node: ast.expr) -> list[str]:
    match node:
        case ast.Constant(value=str(text)):
            return [text]
        case ast.IfExp(body=body, orelse=other):
            return _literals(body) + _literals(other)
    return []


def of_shipped() -> set[str]:
    """What the rule sheets that come with it say of themselves; their titles are names."""
    found = set()
    for path in SOURCE.glob("mastering/outlets/shipped/*.toml"):
        sheet = tomllib.loads(path.read_text(encoding="utf-8"))
        found |= {sheet["summary"], *(source for source in _sources(sheet))}
    return found


def _sources(table: dict) -> Iterator[str]:
    for key, value in table.items():
        if isinstance(value, dict):
            yield from _sources(value)
        elif isinstance(value, list):
            yield from (source for each in value if isinstance(each, dict) for source in _sources(each))
        elif key == "source":
            yield value


def texts_of_python() -> set[str]:
    """Every text that stands in the code as it is."""
    found = set()
    for path in SOURCE.rglob("*.py"):
        tree = ast.parse(path.read_text(encoding="utf-8"))
        found |= {
            each.value for each in ast.walk(tree) if isinstance(each, ast.Constant) and isinstance(each.value, str)
        }
    return found
