"""What several commands take: treatments, facts for patterns, marks in a file; plans of files beside each other."""

import argparse
import time
from functools import partial
from pathlib import Path

from mastering.audio.facts import FileFacts
from mastering.editing.labels import FORMATS, Label, read_labels
from mastering.editing.texts import decoded
from mastering.errors import MasteringError
from mastering.making.survey import Survey
from mastering.meters.meter import Levels
from mastering.meters.sides import BY_ITSELF, WAYS
from mastering.naming.described import described
from mastering.naming.patterns import FIELDS
from mastering.outlets.levelplan import LevelPlan
from mastering.outlets.outlet import Outlet
from mastering.outlets.setplan import Given, plan_set
from mastering.said import Said
from mastering.shaping.mends import MENDS
from mastering.shaping.treatment import ALWAYS, AS_IT_IS, CHOICES, NEEDED, NEVER, RUMBLE_HZ, Treatment
from mastering.tagging.markers import markers_inside


def takes_treatment(command: argparse.ArgumentParser) -> None:
    choices = [choice.replace(" ", "-") for choice in CHOICES]
    command.add_argument(
        "--mono",
        choices=[way.replace(" ", "-") for way in WAYS],
        default=BY_ITSELF.replace(" ", "-"),
        help=Said("how-mono-made-two-sides"),
    )
    command.add_argument(
        "--rumble",
        type=_rumble,
        nargs="?",
        default=(0.0, ALWAYS),
        const=(RUMBLE_HZ, ALWAYS),
        metavar="HZ|if-needed",
        help=Said("take-away-what-lies-below", rumble_hz=RUMBLE_HZ),
    )
    command.add_argument("--hush", choices=choices, default=NEVER, help=Said("lower-steady-noise-default-default"))
    command.add_argument(
        "--hush-db",
        type=float,
        default=AS_IT_IS.hush_db,
        metavar="DB",
        help=Said("how-much-most-default-default"),
    )
    command.add_argument("--ride", choices=choices, default=NEVER, help=Said("even-out-voice-default-default"))
    for mend in MENDS.values():
        command.add_argument(
            f"--{mend.name}", action="append_const", dest="mends", const=mend.name, help=f"{mend.does} (off)"
        )
    command.add_argument("--no-room-tone", action="store_true", help=Said("leave-head-tail-they"))
    command.add_argument("--together", action="store_true", help=Said("one-gain-all-files"))


def treatment_of(options) -> Treatment:
    return Treatment(
        mono=options.mono.replace("-", " "),
        rumble_hz=options.rumble[0],
        rumble=options.rumble[1],
        hush=options.hush.replace("-", " "),
        hush_db=options.hush_db,
        ride=options.ride.replace("-", " "),
        mends=tuple(options.mends or ()),
        room_tone=not options.no_room_tone,
        together=options.together,
    )


def _rumble(text: str) -> tuple[float, str]:
    return (RUMBLE_HZ, NEEDED) if text.replace("-", " ") == NEEDED else (float(text), ALWAYS)


def _filtered(survey: Survey, channels: int) -> Levels:
    return survey.measured(channels, filtered=True).levels


def plans_of(options, outlet: Outlet, treatment: Treatment) -> list[tuple[Path, LevelPlan | MasteringError]]:
    """The plan of each file beside the others, or what is wrong with it."""
    known: dict[Path, Given] = {}
    wrong: dict[Path, MasteringError] = {}
    for path in options.files:
        survey = Survey(path, treatment, content_kind=options.content)
        try:
            channels = survey.channels_for(outlet, options.content)
            known[path] = Given(
                survey.measured(channels).levels,
                options.content,
                treatment,
                partial(_filtered, survey, channels),
                survey.known(channels),
                unsteadiness_db=partial(survey.unsteadiness_db, channels, options.content),
            )
        except MasteringError as error:
            wrong[path] = error
    planned = dict(zip(known, plan_set(list(known.values()), outlet), strict=True))
    return [(path, wrong.get(path) or planned[path]) for path in options.files]


def takes_facts(command: argparse.ArgumentParser) -> None:
    command.add_argument(
        "--fact",
        action="append",
        default=[],
        metavar="NAME=TEXT",
        help=Said("what-patterns-names-tags-may"),
    )
    command.add_argument("--artwork", type=Path, metavar="PICTURE", help=Said("picture-outlets-ask-one"))


def facts_given(options) -> list[dict]:
    """What patterns may use of each file: its name and place, its folder for a production, and what --fact says."""
    given = {}
    for pair in options.fact:
        name, sign, text = pair.partition("=")
        if not sign or name not in FIELDS:
            raise MasteringError(Said("no-fact-write-name-text", pair=pair, fields=", ".join(FIELDS)))
        given[name] = text
    shared = {"date": time.strftime("%Y-%m-%d"), "total": len(options.files)}
    said = [described(path.name, production=path.resolve().parent.name) for path in options.files]
    counted = any(each.number is not None for each in said)
    return [
        {
            "production": path.resolve().parent.name,
            "place": place,
            "number": each.number,
            "count": each.number if counted else place,
            "role": each.role or "",
            "part": each.part,
            "title": each.title,
            "source": path.stem,
        }
        | shared
        | given
        for place, (path, each) in enumerate(zip(options.files, said, strict=True), 1)
    ]


def labels_of(recording: FileFacts, marks: Path) -> list[Label]:
    duration_s = recording.frames / recording.sample_rate_hz
    kind = marks.suffix.lower().removeprefix(".")
    if kind in FORMATS:
        return read_labels(decoded(marks.read_bytes())[0], kind, duration_s=duration_s)
    return markers_inside(marks, sample_rate_hz=recording.sample_rate_hz, duration_s=duration_s)
