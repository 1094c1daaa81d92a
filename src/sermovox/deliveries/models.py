"""Deliveries: one run that makes files for chosen sections, and the files it made."""

import json
import shutil
import uuid
from collections.abc import Collection, Mapping
from dataclasses import asdict, dataclass
from pathlib import Path

from django.db import models, transaction
from django.urls import reverse
from django.utils import timezone
from django.utils.text import slugify

from mastering.errors import CannotMake, MasteringError
from mastering.naming.checks import NameProblem, numbered
from mastering.naming.patterns import plain, read_pattern
from mastering.naming.renaming import new_names, rename_all
from mastering.outlets.checksheet import (
    FAIL,
    PASS,
    REMARK,
    CheckSheet,
    Delivered,
    check_together,
    consistency,
    verdict_of,
)
from mastering.outlets.outlet import Outlet, parse, written
from mastering.outlets.sentences import steps
from mastering.pipeline import Made
from mastering.shaping.treatment import AS_IT_IS, Treatment, treatment_of
from sermovox import storage
from sermovox.cutting.programmes import Assembly, Voice
from sermovox.levelling.soundings import Sounding, Soundings, common_treatment, content_of
from sermovox.productions.models import Naming, Production, Section
from sermovox.productions.naming import names_of, pattern_for, problems_of, settled_names
from sermovox.progress import seconds_left

_MOST_STARTS = 3


@dataclass(frozen=True)
class PlannedFile:
    """A file about to be made: its name, and the earlier one for the same outlet that has it already.

    `programme` is what it is made of, where that is not the whole of one recording. One file of a whole production has
    no section.
    """

    section: Section | None
    place: int
    name: str
    earlier: "FinishedFile | None"
    programme: dict | None = None
    title: str = ""
    treatment: Treatment = AS_IT_IS


@dataclass(frozen=True)
class Plan:
    """What a run would make, and the names that cannot be used."""

    files: list[PlannedFile]
    problems: list[tuple[str, NameProblem]]

    @property
    def conflicts(self) -> list[PlannedFile]:
        return [plan for plan in self.files if plan.earlier]


def planned_names(production: Production, outlet: Outlet, sections: list[Section]) -> Plan:
    """Settle the names of some sections' files, as they follow from the whole running order."""
    if outlet.joined:
        return _planned_whole(production, outlet, sections)
    chosen = {section.pk: section for section in sections}
    everyone, names, problems = settled_names(production, outlet)
    earlier = {name.casefold(): file for name, file in earlier_files(production, outlet.key).items()}
    made = Assembly(production)
    files = []
    for place, (section, name) in enumerate(zip(everyone, names, strict=True), 1):
        if section.pk not in chosen:
            continue
        section = chosen[section.pk]
        for voice in _voices(made, section) or [Voice("", None)]:
            own = _with_voice(name, voice.name)
            if voice.name:
                # Two voices may be called alike.
                own = numbered(own, {file.name.casefold() for file in files if file.section == section})
            title = f"{section.title} ({voice.name})" if voice.name else section.title
            files.append(
                PlannedFile(
                    section, place, own, earlier.get(own.casefold()), voice.programme, title[:200], section.wishes
                )
            )
    told = [
        (everyone[problem.index].title, problem)
        for problem in problems
        if problem.grave and everyone[problem.index].pk in chosen
    ]
    return Plan(files, told)


def _planned_whole(production: Production, outlet: Outlet, sections: list[Section]) -> Plan:
    """One file of all sections, in their order, for an outlet that takes them joined."""
    made = Assembly(production)
    stretches = [stretch for section in sections for stretch in section.stretches()]
    try:
        voices = made.voices_of(made.pieces(stretches), mixed=True)
    except MasteringError as error:
        raise CannotMake(str(error)) from error
    whole = Section(production=production, title=production.title, content_kind=content_of(sections), position=1)
    name = names_of(production, outlet, [whole], read_pattern(pattern_for(production, outlet, [whole])))[0]
    earlier = {name.casefold(): file for name, file in earlier_files(production, outlet.key).items()}
    told = [(production.title, problem) for problem in problems_of([name], outlet, [whole]) if problem.grave]
    file = PlannedFile(
        None,
        1,
        name,
        earlier.get(name.casefold()),
        voices[0].programme,
        production.title,
        common_treatment(sections),
    )
    return Plan([file], told)


def _voices(made: Assembly, section: Section) -> list[Voice]:
    try:
        return made.voices(section)
    except MasteringError as error:
        raise CannotMake(f"{section.title}: {error}") from error


def _with_voice(name: str, voice: str) -> str:
    """A file's name with that of a voice: "03-tides.mp3" and "guest.wav" make "03-tides-guest.mp3"."""
    if not voice:
        return name
    stem, dot, ending = name.rpartition(".")
    plain_voice = slugify(plain(voice.rpartition(".")[0] or voice))[:40]
    return f"{stem}-{plain_voice}{dot}{ending}"


def earlier_files(production: Production, outlet_key: str) -> dict[str, "FinishedFile"]:
    """Finished files of a production for an outlet, by name; of those with one name, the newest."""
    files = FinishedFile.objects.made().filter(delivery__production=production, delivery__outlet_key=outlet_key)
    return {file.name: file for file in files.only("name", "delivery_id").order_by("pk")}


class DeliveryQuerySet(models.QuerySet):
    def of(self, user) -> "DeliveryQuerySet":
        """Those of a person's productions."""
        return self.filter(production__owner=user)


class Delivery(models.Model):
    """What one run makes for one outlet. It keeps the rules it was made under; `run` is that of the whole run."""

    production = models.ForeignKey(Production, on_delete=models.CASCADE, related_name="deliveries")
    outlet_key = models.CharField(max_length=60)
    outlet_toml = models.TextField()
    run = models.UUIDField(default=uuid.uuid4, editable=False, db_index=True)
    created_at = models.DateTimeField(auto_now_add=True)
    cancelled_at = models.DateTimeField(null=True, blank=True)

    objects = DeliveryQuerySet.as_manager()

    class Meta:
        ordering = ["-created_at", "-pk"]
        verbose_name_plural = "deliveries"

    def __str__(self) -> str:
        return f"{self.production} for {self.outlet.title}"

    def get_absolute_url(self) -> str:
        return reverse("deliveries:detail", args=[self.pk])

    @property
    def outlet(self) -> Outlet:
        return parse(self.outlet_toml)

    @property
    def archive_name(self) -> str:
        return f"{self.production.key}-{self.outlet_key}.zip"

    @classmethod
    def start(
        cls,
        production: Production,
        outlets: list[Outlet],
        sections: list[Section],
        *,
        existing: Mapping[str, str] | None = None,
    ) -> "list[Delivery]":
        """Queue the files of some sections for one outlet or several. The names are settled now, so that they sort in
        running order.

        `existing` says for each outlet's key what is done where an earlier file has the same name; where it does not,
        both are kept. An outlet for which everything is skipped has no delivery. Raises CannotMake where a name cannot
        be used.
        """
        run, deliveries = uuid.uuid4(), []
        with transaction.atomic():
            production.last_outlets = [outlet.key for outlet in outlets]
            production.save(update_fields=["last_outlets"])
            for outlet in outlets:
                choice = (existing or {}).get(outlet.key) or Naming.Existing.KEEP_BOTH
                delivery = cls._settle(production, outlet, sections, choice, run)
                deliveries += [delivery] if delivery else []
            _enqueue(FinishedFile.objects.filter(delivery__in=deliveries))
        return deliveries

    @classmethod
    def _settle(
        cls, production: Production, outlet: Outlet, sections: list[Section], existing: str, run: uuid.UUID
    ) -> "Delivery | None":
        outlet = Soundings(production).settled(sections, outlet)
        planned = planned_names(production, outlet, sections)
        if planned.problems:
            raise CannotMake(f"{planned.problems[0][0]}: {planned.problems[0][1].words}")
        wanted = planned.files
        if existing == Naming.Existing.SKIP:
            wanted = [plan for plan in wanted if plan.earlier is None]
        if not wanted:
            return None
        taken = {name.casefold() for name in [*earlier_files(production, outlet.key), *(p.name for p in planned.files)]}
        delivery = cls.objects.create(
            production=production, outlet_key=outlet.key, outlet_toml=written(outlet), run=run
        )
        for plan in wanted:
            replaces = plan.earlier if existing == Naming.Existing.REPLACE else None
            name = plan.name if replaces or not plan.earlier else numbered(plan.name, taken)
            taken.add(name.casefold())
            section = plan.section
            delivery.files.create(
                section=section,
                title=plan.title,
                recording=section.recording if section else sections[0].recording,
                content_kind=section.content_kind if section else content_of(sections),
                programme=plan.programme,
                section_keys=[] if section else [each.pk for each in sections],
                treatment=plan.treatment.as_dict(),
                place=plan.place,
                name=name,
                replaces=replaces,
            )
        return delivery

    @property
    def of_run(self) -> "DeliveryQuerySet":
        """All deliveries of its run, this one among them."""
        return Delivery.objects.filter(run=self.run).order_by("pk")

    def cancel(self) -> None:
        """Stop what runs and what waits in the whole run; what is finished stays."""
        with transaction.atomic():
            self.of_run.update(cancelled_at=timezone.now())
            FinishedFile.objects.filter(delivery__run=self.run).waiting().update(state=FinishedFile.State.CANCELLED)

    def together(self, extras: Collection[str]) -> CheckSheet:
        """What the outlet asks of all files beside each other; `extras` are the files that go with them."""
        files = [
            Delivered(
                name=file.name,
                channels=file.figures.get("channels") or 1,
                size_bytes=file.figures.get("size_bytes") or 0,
                role=file.section.role if file.section else "",
            )
            for file in self.files.made().select_related("section")
        ]
        return check_together(files, self.outlet, extras=extras)

    def run_again(self) -> None:
        """Queue once more what was cancelled or could not be made in the whole run."""
        with transaction.atomic():
            self.of_run.update(cancelled_at=None)
            keys = list(FinishedFile.objects.filter(delivery__run=self.run).unmade().values_list("pk", flat=True))
            unmade = FinishedFile.objects.filter(pk__in=keys)
            unmade.update(state=FinishedFile.State.WAITING, share=0.0, refusal="", starts=0)
            _enqueue(unmade)

    def hold_together(self) -> None:
        """Once all files are made, add to each what the outlet asks of all of them beside each other."""
        outlet = self.outlet
        if not outlet.compares_files:
            return
        with transaction.atomic():
            if self.files.under_way().exists():
                return
            files = list(self.files.made())
            found = consistency([file.figures.get("integrated_lufs") for file in files], outlet)
            for file, finding in zip(files, found, strict=True):
                if finding is None:
                    continue
                others = [each for each in file.findings if each["rule"] != finding.rule]
                file.findings = [*others, asdict(finding)]
                file.state = FinishedFile._BY_VERDICT[verdict_of(each["verdict"] for each in file.findings)]
                file.save(update_fields=["findings", "state"])

    def rename(self, pairs: list[tuple[str, str]]) -> int:
        """Rename finished files by (old name, new name), all or none. Returns how many; raises CannotRename."""
        files = list(self.files.made())
        names = new_names([file.name for file in files], pairs)
        changed = [(file, name) for file, name in zip(files, names, strict=True) if file.name != name]
        if changed:
            with transaction.atomic():
                self.renamings.filter(undone=True).delete()
                self.renamings.create(pairs=[[file.name, name] for file, name in changed])
                self._take_names(changed)
        return len(changed)

    def undo_renaming(self) -> int:
        """Give back the names before the last renaming. Returns how many files were renamed."""
        renaming = self.renamings.filter(undone=False).last()
        if renaming is None:
            return 0
        before = {new: old for old, new in renaming.pairs}
        changed = [(file, before[file.name]) for file in self.files.made() if file.name in before]
        with transaction.atomic():
            renaming.undone = True
            renaming.save(update_fields=["undone"])
            self._take_names(changed)
        return len(changed)

    def _take_names(self, changed: list[tuple["FinishedFile", str]]) -> None:
        moves = [(file.path, file.folder / name) for file, name in changed]
        for file, name in changed:
            FinishedFile.objects.filter(pk=file.pk).update(name=name)
        # Last: should the disk refuse, the names in the database are taken back with it.
        rename_all(moves)

    def delete(self, *args, **kwargs):
        folder = storage.finished(self.pk, 0).parent
        result = super().delete(*args, **kwargs)
        shutil.rmtree(folder, ignore_errors=True)
        return result


def _enqueue(files: "FinishedFileQuerySet") -> None:
    """Have files made once the transaction is over: those of one section for several outlets together."""
    from sermovox.deliveries.tasks import make_files

    together: dict[str, list[int]] = {}
    rows = files.order_by("place", "pk").values_list("pk", "section_id", "recording_id", "programme", "treatment")
    # The file of all sections takes longest and is begun first, so that no worker is left alone with it.
    for key, *sound in sorted(rows, key=lambda row: row[1] is not None):
        together.setdefault(json.dumps(sound, sort_keys=True), []).append(key)
    for keys in together.values():
        transaction.on_commit(lambda keys=keys: make_files.enqueue(keys))


class FinishedFileQuerySet(models.QuerySet):
    def waiting(self) -> "FinishedFileQuerySet":
        return self.filter(state=FinishedFile.State.WAITING)

    def under_way(self) -> "FinishedFileQuerySet":
        return self.filter(state__in=[FinishedFile.State.WAITING, FinishedFile.State.MAKING])

    def tell_progress(self, stage: str, share: float) -> bool:
        """Note how far files that are made together are; True when somebody has cancelled one of them meanwhile."""
        self.update(stage=stage, share=share)
        return self.filter(delivery__cancelled_at__isnull=False).exists()

    def made(self) -> "FinishedFileQuerySet":
        return self.filter(state__in=FinishedFile.MADE)

    def unmade(self) -> "FinishedFileQuerySet":
        return self.filter(state__in=[FinishedFile.State.CANCELLED, FinishedFile.State.REFUSED])


class FinishedFile(models.Model):
    """One file of a delivery, from waiting to checked.

    `programme` is what it is made of, settled when the run begins; null where that is the whole of `recording`. The
    file of several sections has none of its own; `section_keys` says which they were, empty for all. `treatment` is its
    section's when the run begins, `steps` what was done in the end: (what it is called, what it does here), `later_s`
    by how much later a word stands in it than before.
    """

    class State(models.TextChoices):
        WAITING = "waiting"
        MAKING = "making"
        PASSES = "passes"
        REMARKS = "passes with a remark"
        FAILS = "fails"
        REFUSED = "cannot be made"
        CANCELLED = "cancelled"

    MADE = (State.PASSES, State.REMARKS, State.FAILS)
    _BY_VERDICT = {PASS: State.PASSES, REMARK: State.REMARKS, FAIL: State.FAILS}

    delivery = models.ForeignKey(Delivery, on_delete=models.CASCADE, related_name="files")
    section = models.ForeignKey(Section, on_delete=models.SET_NULL, null=True, related_name="files")
    recording = models.ForeignKey(
        "recordings.Recording", on_delete=models.SET_NULL, null=True, related_name="finished_files"
    )
    title = models.CharField(max_length=200)
    content_kind = models.CharField(max_length=10)
    programme = models.JSONField(null=True)
    section_keys = models.JSONField(default=list)
    treatment = models.JSONField(default=dict)
    place = models.PositiveIntegerField()
    name = models.CharField(max_length=255)
    state = models.CharField(max_length=24, choices=State, default=State.WAITING)
    stage = models.CharField(max_length=60, blank=True)
    share = models.FloatField(default=0.0)
    starts = models.PositiveSmallIntegerField(default=0)
    started_at = models.DateTimeField(null=True)
    finished_at = models.DateTimeField(null=True)
    refusal = models.TextField(blank=True)
    sha256 = models.CharField(max_length=64, blank=True)
    figures = models.JSONField(default=dict)
    findings = models.JSONField(default=list)
    remarks = models.JSONField(default=list)
    steps = models.JSONField(default=list)
    later_s = models.FloatField(default=0.0)
    gain_db = models.FloatField(null=True)
    ceiling_dbtp = models.FloatField(null=True)
    attempts = models.PositiveSmallIntegerField(default=0)
    replaces = models.ForeignKey("self", on_delete=models.SET_NULL, null=True, related_name="replaced_by")

    objects = FinishedFileQuerySet.as_manager()

    class Meta:
        ordering = ["place", "pk"]

    def __str__(self) -> str:
        return self.name

    def get_absolute_url(self) -> str:
        return reverse("deliveries:check-sheet", args=[self.pk])

    @property
    def folder(self) -> Path:
        return storage.finished(self.delivery_id, self.pk)

    @property
    def path(self) -> Path:
        return self.folder / self.name

    @property
    def waveform_path(self) -> Path:
        return self.folder / "waveform"

    @property
    def is_made(self) -> bool:
        return self.state in self.MADE

    @property
    def seconds_left(self) -> float | None:
        return seconds_left(self.started_at, self.share) if self.state == self.State.MAKING else None

    def begin(self) -> bool:
        """Claim the file for making. False when it is no longer waiting.

        What a killed worker left in its folder is cleared away. A file whose worker died several times is
        not tried for ever.
        """
        waiting = FinishedFile.objects.filter(pk=self.pk, state=self.State.WAITING)
        claim = {"state": self.State.MAKING, "started_at": timezone.now(), "share": 0.0, "stage": ""}
        if not waiting.update(starts=models.F("starts") + 1, **claim):
            return False
        self.refresh_from_db()
        if self.starts > _MOST_STARTS:
            self.set_refused(
                f"Making this file was broken off {_MOST_STARTS} times. The machine may be short of memory; "
                "run it again when less is going on."
            )
            return False
        shutil.rmtree(self.folder, ignore_errors=True)
        self.folder.mkdir(parents=True)
        return True

    def set_made(self, made: Made, sha256: str) -> None:
        self.state = self._BY_VERDICT[made.sheet.verdict]
        self.sha256 = sha256
        self.figures = made.found.figures()
        self.findings = made.sheet.as_list()
        self.remarks = list(made.remarks)
        self.steps, self.later_s = steps(made.plan), made.plan.edges.head_s
        self.gain_db = round(made.plan.gain_db, 2)
        self.ceiling_dbtp = made.plan.ceiling_dbtp
        self.attempts = made.attempts
        self.share, self.stage, self.refusal, self.finished_at = 1.0, "", "", timezone.now()
        replaced, self.replaces = self.replaces, None
        with transaction.atomic():
            self.save()
            if replaced:
                replaced.put_away()

    def set_checked(self, figures: dict, findings: list[dict]) -> None:
        """Keep what was found when it was checked again."""
        self.figures, self.findings = figures, findings
        self.state = self._BY_VERDICT[verdict_of(finding["verdict"] for finding in findings)]
        self.save(update_fields=["figures", "findings", "state", "sha256"])

    @property
    def sounding(self) -> Sounding:
        """What it is made from."""
        return Sounding(
            section=None,
            title=self.title,
            content_kind=self.content_kind,
            treatment=treatment_of(self.treatment),
            recording=self.recording,
            programme=self.programme,
        )

    def put_away(self) -> None:
        """Delete this file for good, and its run when it was the last there."""
        delivery, folder = self.delivery, self.folder
        self.delete()
        if not delivery.files.exists():
            delivery.delete()
        shutil.rmtree(folder, ignore_errors=True)

    def set_refused(self, reason: str) -> None:
        self.state, self.refusal, self.stage, self.finished_at = (
            self.State.REFUSED,
            reason,
            "",
            timezone.now(),
        )
        self.save(update_fields=["state", "refusal", "stage", "finished_at"])

    def set_cancelled(self) -> None:
        self.state, self.stage, self.finished_at = self.State.CANCELLED, "", timezone.now()
        self.save(update_fields=["state", "stage", "finished_at"])

    def failures(self) -> list[dict]:
        """The findings that fail."""
        return [finding for finding in self.findings if finding["verdict"] == FAIL]


class Renaming(models.Model):
    """Files of a delivery renamed together, and how they were called before: (old name, new name)."""

    delivery = models.ForeignKey(Delivery, on_delete=models.CASCADE, related_name="renamings")
    made_at = models.DateTimeField(auto_now_add=True)
    pairs = models.JSONField()
    undone = models.BooleanField(default=False)

    class Meta:
        ordering = ["pk"]

    def __str__(self) -> str:
        return f"{len(self.pairs)} files renamed"
