"""Finished files that belong together: those of one run, or those that stand for a production now."""

from collections.abc import Collection, Sequence
from dataclasses import dataclass, replace
from datetime import datetime
from functools import cached_property

from mastering.certain import certain
from mastering.errors import MasteringError
from mastering.outlets.checksheet import check_together
from mastering.outlets.findings import CheckSheet
from mastering.outlets.outlet import Outlet
from mastering.outlets.rules.kind import Delivered
from mastering.outlets.rulesheets import written
from mastering.said import Said, together, word
from mastering.tagging.carried import read_carried
from mastering.tagging.inscription import Chapter
from sermovox.deliveries.fingerprints import NO_DATE, Changes, followed_by
from sermovox.deliveries.inscriptions import Inscriptions, chapters_of, in_place
from sermovox.deliveries.models import Delivery, FinishedFile, current_files
from sermovox.productions.models import Production
from sermovox.sources.names import Wanted, WantedFiles, today


@dataclass(frozen=True, kw_only=True)
class Bundle:
    """Finished files for one outlet, in order, with what goes beside them.

    `whole` says whether every section has its file among them; `missing` names what is not there or no longer right,
    each with the reason.
    """

    production: Production
    outlet: Outlet
    outlet_toml: str
    made_at: datetime
    files: Sequence[FinishedFile]
    whole: bool
    missing: Sequence[str] = ()

    @property
    def outlet_key(self) -> str:
        return self.outlet.key

    @property
    def archive_name(self) -> str:
        return f"{self.production.key}-{self.outlet_key}.zip"

    @property
    def to_be_known(self) -> list[str]:
        """What whoever opens them is to read first: what is missing, and which of them fail."""
        failing = [file for file in self.files if file.state == FinishedFile.State.FAILS]
        return [
            *self.missing,
            *(Said("fails-check-sheet-says-why", name=file.name, title=file.title) for file in failing),
        ]

    def together(self, extras: Collection[str]) -> CheckSheet:
        """What the outlet asks of all files beside each other; `extras` are the files that go with them."""
        files = [
            Delivered(
                name=file.name,
                channels=file.figures.get("channels") or 1,
                size_bytes=file.figures.get("size_bytes") or 0,
                role=file.section.role if file.section else "",
            )
            for file in self.files
        ]
        return check_together(files, self.outlet, extras=extras, whole=self.whole)


def of_run(delivery: Delivery) -> Bundle:
    """The files of a run for one outlet that are there, and which are not."""
    files, missing = [], list[str]()
    for file in delivery.files.select_related("delivery__production", "section", "recording"):
        if file.replaced_at:
            missing.append(
                Said("file-was-replaced", name=file.name, title=file.title, day=f"{file.replaced_at:%Y-%m-%d}")
            )
        elif file.is_there:
            files.append(file)
        else:
            why = Said("its-file-gone") if file.is_made else word(file.state)
            missing.append(Said("not-there", name=file.name, title=file.title, why=why))
    return Bundle(
        production=delivery.production,
        outlet=delivery.outlet,
        outlet_toml=delivery.outlet_toml,
        made_at=delivery.created_at,
        files=files,
        whole=delivery.whole,
        missing=missing,
    )


def that_stands(delivery: Delivery) -> Bundle:
    """The files of a run for one outlet with what took their places since, as far as they are there."""
    return replace(of_run(delivery), files=[file for file in delivery.stands if file.is_there], missing=())


class Current:
    """The files that stand for a production now at one outlet, and what of each is no longer so."""

    def __init__(self, production: Production, outlet: Outlet):
        self.production, self.wanted = production, WantedFiles(production, outlet, date=NO_DATE)
        self.outlet = self.wanted.outlet
        self._standing = current_files(production, outlet.key)

    @cached_property
    def rows(self) -> list[tuple[Wanted, FinishedFile | None, Changes | None]]:
        """Each file that is wanted, the one that stands for it, and what of that has changed since."""
        follows = followed_by(self.wanted, Inscriptions(self.production, self.wanted.soundings))
        found = []
        for wanted in self.wanted.files:
            file = self._standing.get(wanted.key)
            now = follows.get(wanted.key)
            changes = None
            if file:
                changes = file.changes_to(now.values) if now else Changes((wanted.sounding.refusal,))
            found.append((wanted, file, changes))
        return found

    @property
    def bundle(self) -> Bundle:
        """Those that are there; what is missing or has changed since is named."""
        files, missing = [], list[str]()
        for wanted, file, changes in self.rows:
            if file is None:
                missing.append(Said("not-made-yet", name=wanted.name, title=wanted.sounding.title))
            elif not file.is_there:
                missing.append(Said("file-gone", name=file.name, title=file.title))
            else:
                files.append(file)
                if changes:
                    missing.append(
                        Said("changed-since", name=file.name, title=file.title, words=together(changes.words, ", "))
                    )
        return Bundle(
            production=self.production,
            outlet=self.outlet,
            outlet_toml=written(self.outlet),
            made_at=max((certain(file.finished_at) for file in files), default=self.production.created_at),
            files=files,
            whole=True,
            missing=missing,
        )


def chapters_in(file: FinishedFile) -> Sequence[Chapter]:
    """The chapters of a finished file, as they stand in it."""
    try:
        stand = read_carried(file.path).chapters
    except (MasteringError, OSError):
        stand = ()  # Damaged, or gone meanwhile: which is said where the file itself is wanted.
    return in_place(chapters_of(file.said or said_now(file)), stand, file.later_s)


def said_now(file: FinishedFile) -> dict:
    """What a file would say of itself that an earlier version of Sermovox began; nothing where its section is gone."""
    files = WantedFiles(file.delivery.production, file.delivery.outlet)
    wanted = next((each for each in files.files if each.key == (file.section_id, file.voice)), None)
    if wanted is None:
        return {"artwork": "", "broadcast": {}, "tags": {}, "texts": {}}
    return Inscriptions(file.delivery.production, files.soundings).settled(wanted, files.outlet, date=today())
