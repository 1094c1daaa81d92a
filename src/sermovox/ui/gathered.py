"""Every word of the interface as it stands in the code, for the catalogues of other languages.

Templates mark theirs, and so do the scripts of the pages. Python's are all its texts that read like words, as
`sermovox.ui.words` explains, but for those in locale/not-words.txt, and with the single words in locale/also-words.txt,
which look like any other name in the code.
"""

import ast
import re
import tomllib
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from django.template import Template
from django.templatetags.i18n import BlockTranslateNode, TranslateNode

from sermovox.ui.templatetags.figures import MARKS
from sermovox.ui.words import LOCALE_DIR

SOURCE = Path(__file__).resolve().parents[2]
_ASIDE = re.compile(
    r"/(tests|migrations|bench|demo|terminal|running|faults|walks|standins|management|formats)/"
    r"|/(cli|settings|gathered|backups|run)\.py$"
)
"""What a reader of the pages never meets: it is for the terminal, or for whoever keeps the server."""
_MOST_READINGS = 16
_IN_SCRIPT = re.compile(r"""\bword\("((?:[^"\\]|\\.)*)\"""")
_ENGLISH_OF_WORKER = re.compile(r"""\["((?:[^"\\]|\\.)*\{\w+\}(?:[^"\\]|\\.)*)", \{""")
_SAID_IN_WORKER = re.compile(r"""said: (?:[\w.]+ \|\| )?"((?:[^"\\]|\\.)*)\"""")
_IN_ARGUMENT = re.compile(r"""_\("([^"]*)"\)""")
_NOT_WORDS = re.compile(r"[<>_=\\$]|/\w+/|%[sd(]|^\W*$")


def of_templates() -> set[tuple[str, ...]]:
    """(text,) or (singular, plural) of all that templates mark, as Django looks them up."""
    found: set[tuple[str, ...]] = set()
    for path in sorted(SOURCE.glob("sermovox/**/templates/**/*.html")):
        text = path.read_text(encoding="utf-8")
        found |= {(each,) for each in _IN_ARGUMENT.findall(text)}
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


def of_python() -> set[str]:
    """All that Python says on the pages, with {names} for what varies."""
    found = set(MARKS) | _listed("also-words.txt") | _of_shipped()
    for path in SOURCE.rglob("*.py"):
        if not _ASIDE.search(path.as_posix()):
            found |= {text for text in _texts(ast.parse(path.read_text(encoding="utf-8"))) if _is_wordy(text)}
    return found - _listed("not-words.txt")


def _of_shipped() -> set[str]:
    """What the rule sheets that come with it say of themselves; their titles are names."""
    found = set()
    for path in SOURCE.glob("mastering/outlets/shipped/*.toml"):
        sheet = tomllib.loads(path.read_text(encoding="utf-8"))
        found |= {_bare(sheet["summary"]), *(_bare(source) for source in _sources(sheet))}
    return found


def _sources(table: dict) -> Iterator[str]:
    for key, value in table.items():
        if isinstance(value, dict):
            yield from _sources(value)
        elif isinstance(value, list):
            yield from (source for each in value if isinstance(each, dict) for source in _sources(each))
        elif key == "source":
            yield value


def _listed(name: str) -> set[str]:
    return set((LOCALE_DIR / name).read_text(encoding="utf-8").splitlines())


def _texts(tree: ast.Module) -> Iterator[str]:
    """Each text of a module, in every reading its conditions allow; not what documents it."""
    within: set[int] = set()
    for node in ast.walk(tree):
        if isinstance(node, ast.Expr) and isinstance(node.value, ast.Constant):
            within.add(id(node.value))
        if isinstance(node, ast.JoinedStr | ast.IfExp) or _is_sum(node):
            within |= {id(part) for part in ast.walk(node) if part is not node}
    for node in ast.walk(tree):
        is_text = isinstance(node, ast.Constant) and isinstance(node.value, str)
        if id(node) not in within and (is_text or isinstance(node, ast.JoinedStr | ast.IfExp) or _is_sum(node)):
            yield from _readings(node, {})


def _is_sum(node: ast.AST) -> bool:
    """Whether texts are put together here, and not numbers or lists."""
    return isinstance(node, ast.BinOp) and isinstance(node.op, ast.Add) and any(map(_is_text, (node.left, node.right)))


def _is_text(node: ast.AST) -> bool:
    is_literal = isinstance(node, ast.Constant) and isinstance(node.value, str) or isinstance(node, ast.JoinedStr)
    return is_literal or _is_sum(node)


def _readings(node: ast.AST, names: dict[str, str]) -> list[str]:
    match node:
        case ast.Constant(value=str(text)):
            return [_bare(text)]
        case ast.JoinedStr(values=values):
            return _joined([_readings(value, names) for value in values])
        case ast.FormattedValue(value=value):
            return _readings(value, names)
        case ast.IfExp(body=body, orelse=other):
            return list(dict.fromkeys(_readings(body, names) + _readings(other, names)))
        case ast.BinOp(left=left, right=right) if _is_sum(node):
            return _joined([_readings(left, names), _readings(right, names)])
    return [f"{{{_name(node, names)}}}"]


def _joined(parts: list[list[str]]) -> list[str]:
    readings = [""]
    for part in parts:
        readings = [before + reading for before in readings for reading in part][:_MOST_READINGS]
    return readings


def _bare(text: str) -> str:
    return text.replace("{", "{{").replace("}", "}}")


def _name(node: ast.AST, names: dict[str, str]) -> str:
    """A name for what varies, from the last name in its expression; the same for the same expression."""
    written = ast.unparse(node)
    found = re.findall(r"[A-Za-z_]\w*", written if written.startswith("(") else written.split("(")[0])
    wanted = name = (found[-1] if found else "value").strip("_") or "value"
    count = 2
    while names.setdefault(name, written) != written:
        name, count = f"{wanted}_{count}", count + 1
    return name


def _is_wordy(text: str) -> bool:
    if "\n" in text:
        return False
    bare = re.sub(r"\{\w+\}", "", text).strip()
    one_word = re.fullmatch(r"[\w.:/-]+", bare) and not re.fullmatch(r"[A-Z][a-z]{2,}[.:]?", bare)
    varies = re.search(r"\} [a-z]{4,}\b|[a-z]{4,} \{", text)
    if _NOT_WORDS.search(bare) or one_word and not varies:
        return False
    return bool(re.search(r"[A-Za-z’'-]{2,}", bare))
