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

EXTRA_FILES = "extra_files"
ONE_EACH, JOINED = "one for each section", "one of all sections"
HEARD_FIRST = "somebody listens to it"
COVER = "cover.jpg"
EXTRAS = ("manifest.csv", "manifest.json", COVER, "chapters.json", "chapters.txt", "check-sheets.html")
"""Files that can go with a delivery."""
ROLES = ("opening credits", "dedication", "foreword", "afterword", "closing credits", "sample")
"""Sections an outlet may want to be there."""


def _alike(demand: Demand, files: Sequence[Delivered], extras: Collection[str]) -> Figure:
    return _MET if len({file.channels for file in files}) == 1 else "mono and stereo"


def _order(demand: Demand, files: Sequence[Delivered], extras: Collection[str]) -> Figure:
    wrong = out_of_order([file.name for file in files])
    return f"{files[wrong[0]].name} comes too soon" if wrong else _IN_ORDER


def _sections(demand: Demand, files: Sequence[Delivered], extras: Collection[str]) -> Figure:
    return _all_there(demand, {file.role for file in files})


def _all_there(demand: Demand, there: Collection[str]) -> Figure:
    wanted = demand.values if isinstance(demand, Items) else ()
    missing = [each for each in wanted if each not in there]
    return f"without {', '.join(missing)}" if missing else ASKED


def _name(asked: Asked, examined: Examined) -> Finding:
    """A file's name: the one it was to have, or where nothing is known of that, one that can be used."""
    wanted = (examined.texts or {}).get(asked.kind.name, "")
    extension, kinds = examined.name.rpartition(".")[2].lower(), sorted(examined.endings())
    endings = [extension if extension in kinds else kinds[0]]
    grave = next((each for each in check_names([examined.name], extensions=endings) if each.grave), None)
    return by_text(
        asked,
        wanted=wanted or f"a name that every system takes, ending in .{' or .'.join(kinds)}",
        found=examined.name,
        right=examined.name == wanted if wanted else grave is None and extension in kinds,
        advice=" ".join(filter(None, (grave.words if grave else "", asked.kind.advice.other))),
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
        label="Channels of all files",
        choices=(_MET,),
        advice=Advice(other="Some files are mono and some are stereo. Make all of them again in one run."),
        together=_alike,
    ),
    replace(_MADE, name="files", label="Files", choices=(ONE_EACH, JOINED)),
    replace(
        _OF_ALL,
        name="sections_required",
        label="Sections required",
        takes=LIST,
        choices=ROLES,
        wants_whole=True,
        advice=Advice(
            other="Add the missing sections to the running order and deliver them too.",
            terminal="Give the missing ones too. The name of a file says what it is, such as “opening credits.wav”.",
        ),
        together=_sections,
    ),
    replace(
        _OF_ALL,
        name="order",
        label="Order of the names",
        choices=(_IN_ORDER,),
        advice=Advice(
            other="Sorted by name, the files are not in running order. Begin their names with {place|pad} on “Names”.",
            terminal="Begin the names with {place|pad}: --names '{place|pad}-{title}'.",
        ),
        together=_order,
    ),
    RuleKind(
        name="names",
        label="File name",
        group=DELIVERY,
        takes=PATTERN,
        hint="A pattern; each production may still choose its own.",
        same_for_all=True,
        makes_another=False,
        advice=Advice(
            other="Rename the file on its delivery’s page, or change the pattern on “Names”.",
            terminal="Give another pattern with --names, or rename it with sermovox rename.",
        ),
        figure=lambda examined: examined.name or None,
        held=_name,
    ),
    replace(_MADE, name="listened", label="Before it is sent", choices=(HEARD_FIRST,)),
    replace(
        _MADE,
        name="folder",
        label="Folder",
        takes=PATTERN,
        hint="Where the files lie in what is handed over, such as mp3 or masters.",
    ),
    replace(
        _OF_ALL,
        name=EXTRA_FILES,
        label="Files beside them",
        takes=LIST,
        choices=EXTRAS,
        advice=Advice(
            other="What is missing is made from the production’s facts, artwork and chapter marks; give it those."
        ),
        together=lambda demand, files, extras: _all_there(demand, extras),
    ),
]
