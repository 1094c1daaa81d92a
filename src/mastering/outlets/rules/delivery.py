"""Rules about files and deliveries: names, folders, what has to be there and what goes beside."""

from collections.abc import Collection, Sequence
from dataclasses import replace

from mastering.naming.checks import check_names, out_of_order
from mastering.outlets.demands import Demand, Items
from mastering.outlets.findings import Finding
from mastering.outlets.rules.holding import by_text
from mastering.outlets.rules.kind import (
    ASKED,
    CHOICE,
    DELIVERY,
    LIST,
    OF_DELIVERY,
    OF_MAKING,
    PATTERN,
    Advice,
    Asked,
    Delivered,
    Examined,
    Figure,
    RuleKind,
)
from mastering.said import Said, together

EXTRA_FILES = "extra_files"
ONE_EACH, JOINED = "one for each section", "one of all sections"
HEARD_FIRST = "somebody listens to it"
COVER = "cover.jpg"
EXTRAS = ("manifest.csv", "manifest.json", COVER, "chapters.json", "chapters.txt", "check-sheets.html")
"""Files that can go with a delivery."""
ROLES = (Said("opening-credits"), "dedication", "foreword", "afterword", Said("closing-credits"), "sample")
"""Sections an outlet may want to be there."""


def _alike(demand: Demand, files: Sequence[Delivered], extras: Collection[str]) -> Figure:
    return _MET if len({file.channels for file in files}) == 1 else Said("mono-stereo")


def _order(demand: Demand, files: Sequence[Delivered], extras: Collection[str]) -> Figure:
    wrong = out_of_order([file.name for file in files])
    return Said("comes-too-soon", name=files[wrong[0]].name) if wrong else _IN_ORDER


def _sections(demand: Demand, files: Sequence[Delivered], extras: Collection[str]) -> Figure:
    return _all_there(demand, {file.role for file in files})


def _all_there(demand: Demand, there: Collection[str]) -> Figure:
    wanted = demand.values if isinstance(demand, Items) else ()
    missing = [each for each in wanted if each not in there]
    return Said("without", missing=together(missing, ", ")) if missing else ASKED


def _name(asked: Asked, examined: Examined) -> Finding:
    """A file's name: the one it was to have, or where nothing is known of that, one that can be used."""
    wanted = (examined.texts or {}).get(asked.kind.name, "")
    extension, kinds = examined.name.rpartition(".")[2].lower(), sorted(examined.endings())
    endings = [extension if extension in kinds else kinds[0]]
    grave = next((each for each in check_names([examined.name], extensions=endings) if each.grave), None)
    return by_text(
        asked,
        wanted=wanted or Said("name-every-system-takes-ending", kinds=" or .".join(kinds)),
        found=examined.name,
        right=examined.name == wanted if wanted else grave is None and extension in kinds,
        advice=together(filter(None, (grave.words if grave else "", asked.kind.advice.other))),
    )


_MET, _IN_ORDER = "all alike", "as the running order"
_OF_ALL = RuleKind(
    name="", label="", group=DELIVERY, takes=CHOICE, scope=OF_DELIVERY, same_for_all=True, makes_another=False
)
_MADE = replace(_OF_ALL, scope=OF_MAKING)

KINDS = [
    replace(
        _OF_ALL,
        name="channels_alike",
        label=Said("channels-all-files"),
        choices=(_MET,),
        advice=Advice(other=Said("some-files-mono-some-stereo")),
        together=_alike,
    ),
    replace(_MADE, name="files", label=Said("files-label"), choices=(ONE_EACH, JOINED)),
    replace(
        _OF_ALL,
        name="sections_required",
        label=Said("sections-required"),
        takes=LIST,
        choices=ROLES,
        wants_whole=True,
        advice=Advice(
            other=Said("add-missing-sections-running-order"),
            terminal=Said("give-missing-ones-too-name"),
        ),
        together=_sections,
    ),
    replace(
        _OF_ALL,
        name="order",
        label=Said("order-names"),
        choices=(_IN_ORDER,),
        advice=Advice(
            other=Said("sorted-name-files-not-running"),
            terminal=Said("begin-names-terminal"),
        ),
        together=_order,
    ),
    RuleKind(
        name="names",
        label=Said("file-name-label"),
        group=DELIVERY,
        takes=PATTERN,
        hint=Said("pattern-each-production-may-still"),
        same_for_all=True,
        makes_another=False,
        advice=Advice(
            other=Said("rename-file-deliverys-page-change"),
            terminal=Said("another-pattern-terminal"),
        ),
        figure=lambda examined: examined.name or None,
        held=_name,
    ),
    replace(_MADE, name="listened", label=Said("before-sent"), choices=(HEARD_FIRST,)),
    replace(
        _MADE,
        name="folder",
        label=Said("folder"),
        takes=PATTERN,
        hint=Said("where-files-lie-what-handed"),
    ),
    replace(
        _OF_ALL,
        name=EXTRA_FILES,
        label=Said("files-beside-them"),
        takes=LIST,
        choices=EXTRAS,
        advice=Advice(other=Said("what-missing-made-from-productions")),
        together=lambda demand, files, extras: _all_there(demand, extras),
    ),
]
