"""What was found in finished files, for whoever keeps or sent them: as HTML, text, CSV and JSON."""

import json
from collections.abc import Callable, Sequence
from dataclasses import asdict, dataclass, field
from html import escape
from typing import Any

from mastering.editing.tables import write_table
from mastering.outlets.findings import FAIL, PASS, REMARK
from mastering.outlets.outlet import Outlet
from mastering.said import ENGLISH, Said, speak, together, word

_COLUMNS = ("file", "verdict of the file", "rule", "asked", "found", "margin", "verdict", "advice", "source")
_SIGNS = {PASS: "✓", REMARK: "~"}
_STYLE = """
body { font: 11pt/1.45 Georgia, serif; color: #1d1b17; max-width: 60rem; margin: 2rem auto; padding: 0 1rem; }
h1 { font-weight: 500; margin-bottom: 0; }
h2 { font-size: 1.1rem; margin: 2rem 0 0; overflow-wrap: anywhere; }
table { border-collapse: collapse; width: 100%; margin-top: .5rem; }
th { text-align: left; font-weight: 400; color: #5a554b; }
td, th { border-bottom: 1px solid #8f887a; padding: .25rem .75rem .25rem 0; vertical-align: top; }
td { overflow-wrap: anywhere; }
.word { overflow-wrap: normal; }
.fails { font-weight: 700; }
p { margin: .25rem 0; }
@media print { tr { break-inside: avoid; } }
"""


@dataclass(frozen=True)
class Checked:
    """One file held against an outlet, or all of a delivery together: its verdict, what was found, and what was
    remarked; or `said`, why nothing could be found out.
    """

    name: str
    verdict: str
    findings: Sequence[dict[str, str]] = ()
    figures: dict[str, Any] = field(default_factory=dict)
    said: str = ""
    remarks: Sequence[str] = ()

    @property
    def failing(self) -> list[dict[str, str]]:
        return [finding for finding in self.findings if finding["verdict"] == FAIL]

    @property
    def worst(self) -> str:
        """What matters most of it in a few words: the first rule it fails or barely passes, or why it was not read."""
        if self.said:
            return self.said
        near = [finding for finding in self.findings if finding["verdict"] == REMARK]
        for finding in (*self.failing, *near):
            more = len(self.failing) - 1
            others = Said("and-more", more=more) if more > 0 else ""
            return Said(
                "asked-found",
                finding=finding["label"],
                finding_2=finding["asked"],
                finding_3=finding["found"],
                others=others,
            )
        return ""


def worst_first(files: Sequence[Checked]) -> list[Checked]:
    """In the order in which somebody wants to read them."""
    return sorted(files, key=lambda file: (not file.said, -len(file.failing), file.verdict == PASS))


def told(files: Sequence[Checked]) -> str:
    """How it went, in one sentence.

    >>> told([Checked("a.wav", PASS), Checked("b.wav", FAIL)])
    '2 files: 1 passes, 1 fails.'
    """
    passing = sum(not file.said and file.verdict != FAIL for file in files)
    failing = sum(not file.said and file.verdict == FAIL for file in files)
    unread = sum(bool(file.said) for file in files)
    words = [Said("count-files-pass", count=passing)] * bool(passing)
    words += [Said("count-files-fail", count=failing)] * bool(failing)
    words += [Said("count-not-checked", count=unread)] * bool(unread)
    return Said("files", count=len(files), words=together(words, ", "))


def as_text(outlet: Outlet, files: Sequence[Checked], language: str = ENGLISH) -> str:
    """For a mail to whoever sent the files: what fails and what to do about it; those that pass are only named."""
    lines: list[str] = [Said("held-against-rules", title=outlet.title, told=told(files))]
    for file in worst_first(files):
        if file.said:
            lines += ["", together([file.name, file.said], ": ")]
        elif file.failing:
            lines += ["", Said("file-fails", name=file.name)]
            for finding in file.failing:
                told_of = {name: finding[name] for name in ("label", "asked", "found")}
                lines.append(together(["- ", Said("asked-and-found", **told_of)], ""))
                lines += [together(["  ", finding["advice"]], "")] * bool(finding["advice"])
    passing = [file.name for file in files if not file.said and file.verdict != FAIL]
    lines += ["", Said("these-pass"), *(f"- {name}" for name in passing)] if passing else []
    return "".join(f"{speak(line, language)}\n" for line in lines)


def as_csv(files: Sequence[Checked]) -> str:
    """One line for each rule of each file; one that could not be read has a line of its own."""
    rows: list[tuple[str, ...]] = []
    for file in files:
        if file.said:
            rows.append((file.name, file.verdict, "", "", "", "", "", file.said, ""))
        for found in file.findings:
            told = [
                found.get(name, "") for name in ("label", "asked", "found", "margin", "verdict", "advice", "source")
            ]
            rows.append((file.name, file.verdict, *told))
    return write_table(_COLUMNS, rows)


def as_json(outlet: Outlet, files: Sequence[Checked]) -> str:
    return json.dumps({"outlet": outlet.key, "files": [asdict(file) for file in files]}, indent=2, ensure_ascii=False)


def as_html(title: str, intro: str, files: Sequence[Checked], language: str = ENGLISH) -> str:
    """A page that stands by itself, to be kept, sent or printed: the summary, then each file, the worst first."""

    def shown(text: str) -> str:
        return escape(speak(text, language))

    rows = "".join(
        f'<tr class="{"fails" if file.failing or file.said else ""}"><td>{_SIGNS.get(file.verdict, "✗")}</td>'
        f'<td>{shown(file.name)}</td><td class="word">{shown(word(file.verdict))}</td><td>{shown(file.worst)}</td></tr>'
        for file in worst_first(files)
    )
    each = "".join(_one(file, shown) for file in worst_first(files))
    title = escape(speak(title, language))
    heads = "".join(f"<th>{shown(head)}</th>" for head in _HEADS)
    return (
        f'<!doctype html>\n<html lang="{language}"><head><meta charset="utf-8"><title>{title}</title>'
        f"<style>{_STYLE}</style></head><body><h1>{title}</h1><p>{shown(intro)}</p>"
        f"<table><thead><tr><th></th>{heads}</tr></thead>"
        f"<tbody>{rows}</tbody></table>{each}</body></html>\n"
    )


def heading(outlet: Outlet) -> str:
    """What a report of files that came in is called."""
    return Said("files-held-against", title=outlet.title)


_HEADS = (Said("report-file"), Said("verdict"), Said("report-what-matters"))


def _one(file: Checked, shown: Callable[[str], str]) -> str:
    head = f"<h2>{shown(file.name)}</h2><p>{shown(file.said or word(file.verdict))}</p>"
    if not file.findings:
        return head
    rows = "".join(
        f'<tr class="{"fails" if found["verdict"] == FAIL else ""}"><td>{_SIGNS.get(found["verdict"], "✗")}</td>'
        + f'<td class="word">{shown(found["label"])}</td><td>{shown(found["asked"])}</td>'
        + f'<td>{shown(found["found"])}</td><td class="word">{shown(found.get("margin", ""))}</td>'
        + f'<td class="word">{shown(word(found["verdict"]))}</td><td>{shown(found["advice"])}</td>'
        + f"<td>{shown(word(found.get('source', '')))}</td></tr>"
        for found in file.findings
    )
    names = (
        "",
        Said("rule"),
        Said("asked"),
        Said("found"),
        Said("margin"),
        Said("verdict"),
        Said("what-do"),
        Said("source-rule"),
    )
    heads = "".join(f"<th>{shown(name)}</th>" for name in names)
    remarks = "".join(f"<p>{shown(remark)}</p>" for remark in file.remarks)
    return f"{head}<table><thead><tr>{heads}</tr></thead><tbody>{rows}</tbody></table>{remarks}"
