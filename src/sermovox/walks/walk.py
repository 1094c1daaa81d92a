"""Random walks over everything that can be done to a production, judged after each step by `oracle`."""

import hashlib
import shutil
from collections import defaultdict
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import Any

import soundfile
from django.conf import settings
from django.contrib.auth import get_user_model
from django.db import connection
from django.test import Client
from django_tasks_db.models import DBTaskResult
from hypothesis import strategies as st
from hypothesis.stateful import RuleBasedStateMachine, initialize, invariant, rule

from mastering.errors import MasteringError
from mastering.outlets.rulesheets import parse
from mastering.shaping.treatment import Treatment
from sermovox.cutting import edits
from sermovox.cutting.models import Page
from sermovox.deliveries import retagging
from sermovox.deliveries.bundles import Current
from sermovox.deliveries.crossings import Board
from sermovox.deliveries.models import Delivery, FinishedFile
from sermovox.deliveries.runs import run_again, start_run
from sermovox.history.changing import redo, undo
from sermovox.outlets.models import RuleSheet, outlets_of
from sermovox.productions import order
from sermovox.productions.models import Naming, Production, Section, pieces_of
from sermovox.productions.order import TreatedOtherwise
from sermovox.recordings.intake import take_in, use
from sermovox.recordings.models import Recording
from sermovox.walks.oracle import BOOK, FLAC, GAP_S, MP3, TAKES, Expected, Rows, Take, differences, found_in, sheet

KEYS = (FLAC, MP3, BOOK)
TITLES = ("salt", "cedar", "ford", "mill", "heron")
DEPTHS = ("16-bit integer", "24-bit integer")
PATTERNS = ("", "{title}-{place}", "{exact}")
GAINS_DB, FADES_S = ("0", "-3", "-6"), ("0", "0.05", "0.3")
TREATMENTS = (Treatment(), Treatment(ride="if needed"), Treatment(room_tone=False))
MADE = ("passes", "passes with a remark", "fails")
_walks = iter(range(1 << 30))


def prepared(folder: Path) -> Path:
    """Write every take as a file, and have all of them measured once, in a production that no walk touches."""
    walker = get_user_model().objects.create_user("walker")
    for key in KEYS:
        RuleSheet.change(walker, parse(sheet(key)), "For walks")
    holder = Production.objects.create(owner=get_user_model().objects.create_user("holder"), title="All takes")
    for take in TAKES:
        soundfile.write(folder / take.name, take.samples, take.rate_hz, subtype="PCM_16")
        take_in(holder, folder / take.name)
    _work_off()
    return folder


def _work_off(count: int | None = None) -> None:
    """Do some of the work that waits, in this process; all of it where no count is given."""
    while (count is None or count > 0) and (task := DBTaskResult.objects.filter(status="READY").first()):
        asked = task.args_kwargs
        task.delete()
        task.task.func(*asked["args"], **asked["kwargs"])
        count = None if count is None else count - 1


class Walk(RuleBasedStateMachine):
    """One production, from its first recordings to the undoing of all that was done to it."""

    takes: Path
    at_work = False
    """Whether others change things meanwhile."""
    pages_at_the_end = 0

    def __init__(self):
        super().__init__()
        self.number = next(_walks)
        self.user = get_user_model().objects.get(username="walker")
        self.production = Production.objects.create(owner=self.user, title="Book", author="Ames")
        if RuleSheet.objects.get(owner=self.user, key=FLAC).outlet != parse(sheet(FLAC)):
            RuleSheet.change(self.user, parse(sheet(FLAC)), "As at first")
        self.production.outlet_keys = list(KEYS)
        self.production.save()
        self.depth = DEPTHS[0]
        self.client = Client(headers={"host": "localhost"})
        self.client.force_login(self.user)
        self.settled: dict[int, Expected | None] = {}
        self.chosen_names: dict[int, tuple[str, str]] = {}
        self.steps = 0
        self.looked_up: dict[str, tuple] = {}

    # What the walk can do.

    @initialize(data=st.data())
    def bring_in_the_first(self, data):
        for take in data.draw(st.lists(st.sampled_from(TAKES), min_size=2, max_size=3, unique=True)):
            recording = Recording.objects.get(production__owner__username="holder", name=take.name)
            recording.pk, recording.production = None, self.production
            recording.save()
            use(recording)
        self.beginning = self._shape()

    @rule(data=st.data())
    def bring_in(self, data):
        here = set(self.production.recordings.values_list("name", flat=True))
        left = [take for take in TAKES if take.name not in here]
        if left:
            take_in(self.production, self.takes / data.draw(st.sampled_from(left)).name)
            self.work(all_of_it=True)

    @rule(data=st.data())
    def assign(self, data):
        section, take = self._section(data), self._recording(data)
        none = data.draw(st.integers(0, 4)) == 0
        chosen = None if none or take is None else take.pk
        if section:
            order.assign(self.production, self.user, {section.pk: chosen}, "Assign")
            words = self._words(section)
            if chosen is None:
                assert words is None, "a section without a recording sounds"

    @rule(data=st.data())
    def cut(self, data):
        page, take = self._page(data)
        if page:
            at = data.draw(st.sampled_from(range(1, len(take.words)))) if len(take.words) > 1 else 0
            own = [section for section in self._sections() if section.recording_id == page.recording_id]
            if own and data.draw(st.booleans()):
                self._shape_piece(data.draw(st.sampled_from(own)), data)
            before, gains = set(self._all_words()), self._gains()
            if self._do(page, "split", cuts=[take.before(at)], from_end=data.draw(st.booleans())):
                assert before <= set(self._all_words()), "cutting lost a word"
                now = self._gains()
                assert all(now[word] == gain for word, gain in gains.items()), "cutting changed the gain of a word"

    @rule(data=st.data())
    def make_section(self, data):
        page, take = self._page(data)
        if page:
            at = data.draw(st.sampled_from(range(len(take.words))))
            end = take.before(at + 1) if at + 1 < len(take.words) else len(take.samples)
            self._do(page, "section", start=take.before(at), end=end, name=data.draw(st.sampled_from(TITLES)))

    @rule(data=st.data())
    def strike(self, data):
        page, take = self._page(data)
        if page:
            at = data.draw(st.sampled_from(range(len(take.words))))
            start, end = take.place(at)
            gap = round(GAP_S * take.rate_hz)
            which = data.draw(st.sampled_from(["word", "pause", "edge"]))
            if which == "pause":
                start, end = start - round(0.8 * gap), start - round(0.2 * gap)
            elif which == "edge":
                start, end = start - round(0.8 * gap), start - round(0.3 * gap)
            else:
                start, end = start - data.draw(st.sampled_from([0, gap // 4])), end
            if self._do(page, "mark", kind="strike", start=start, end=end) and which == "word":
                rest = [w for s in self._sections() if not self._is_put_in(take) for w in self._words(s) or ()]
                assert take.words[at] not in rest, "what was struck out sounds"

    @rule(data=st.data())
    def restore(self, data):
        page, take = self._page(data)
        if page and page.marks:
            self._do(page, "restore", start=0, end=len(take.samples))

    @rule(data=st.data())
    def pick_up(self, data):
        page, take = self._page(data)
        other = self._recording(data)
        if page and other and other.pk != page.recording_id:
            at = data.draw(st.sampled_from(range(len(take.words))))
            start, end = take.place(at)
            earlier = data.draw(st.sampled_from([0, 1, 2])) * round(GAP_S * take.rate_hz) // 4
            self._do(page, "pickup", start=start - earlier, end=end, recording=other.pk)

    @rule(data=st.data())
    def put_beside(self, data):
        page, _ = self._page(data)
        other = self._recording(data)
        rarely = data.draw(st.integers(0, 2)) == 0
        if page and other and rarely and self._do(page, "lane-add", recording=other.pk):
            self._do(page.looked_at_again(), "separate", separate=data.draw(st.booleans()))

    @rule(data=st.data())
    def cross(self, data):
        section = self._section(data)
        if section and len(section.made_of) > 1:
            at = data.draw(st.sampled_from(range(1, len(section.made_of))))
            page = self.client.get(f"/cutting/sections/{section.pk}/")
            row = page.context["rows"][at]
            said = {"do": "set", "seen": page.context["stamp"], "at": at, "start": row["start"], "end": row["end"]}
            join = data.draw(st.sampled_from(["butt", "crossfade"]))
            self.client.post(f"/cutting/sections/{section.pk}/", said | {"join": join, "join_s": "0.05"})

    @rule(data=st.data())
    def shape(self, data):
        section = self._section(data)
        if section and section.made_of:
            self._shape_piece(section, data)

    @rule(data=st.data())
    def take_a_voice_away(self, data):
        page, _ = self._page(data)
        if page and page.lanes:
            self._do(page, "lane-remove", recording=page.lanes[0]["recording"])

    @rule(data=st.data(), apart=st.booleans())
    def part_sides(self, data, apart):
        page, take = self._page(data)
        if page and take.channels == 2 and data.draw(st.integers(0, 2)) == 0:
            self._do(page, "sides", apart=apart)

    @rule(data=st.data())
    def merge(self, data):
        sections = self._sections()
        if len(sections) > 1:
            at = data.draw(st.sampled_from(range(len(sections) - 1)))
            words = [self._words(section) for section in sections[at : at + 2]]
            had = [bool(section.made_of) for section in sections[at : at + 2]]
            shaped = [piece for section in sections[at : at + 2] for piece in self._shapes(section)]
            try:
                try:
                    left = order.merge(self.production, self.user, sections[at])
                except TreatedOtherwise as asked:
                    chosen = data.draw(st.sampled_from(asked.sections)).pk
                    left = order.merge(self.production, self.user, sections[at], as_treated=chosen)
            except MasteringError:
                assert [s.pk for s in self._sections()] == [s.pk for s in sections], "a refused merge changed something"
                return
            if None not in words or not all(had):
                assert left is not None
                assert (self._words(left) or []) == (words[0] or []) + (words[1] or []), "merging changed the words"
                assert sorted(self._shapes(left)) == sorted(shaped), "merging changed gains, fades or kinds"

    @rule(data=st.data())
    def split_in_parts(self, data):
        if (section := self._section(data)) and len(self._sections()) < 7:
            order.split(self.production, self.user, section)

    @rule(data=st.data())
    def move(self, data):
        if len(sections := self._sections()) > 1:
            one, before = data.draw(st.permutations(sections))[:2]
            order.move(self.production, self.user, [one.pk], before.pk)

    @rule(data=st.data())
    def remove(self, data):
        section = self._section(data)
        if section and len(self._sections()) > 1:
            order.remove(self.production, self.user, section)

    @rule(data=st.data())
    def add(self, data):
        if len(self._sections()) < 7:
            order.add(self.production, self.user, None, title=data.draw(st.sampled_from(TITLES)))

    @rule(data=st.data())
    def treat(self, data):
        if section := self._section(data):
            wanted = data.draw(st.sampled_from(TREATMENTS))
            order.treat(self.production, self.user, {section.pk: wanted}, "Treat")

    @rule(data=st.data())
    def fill_in_section(self, data):
        if section := self._section(data):
            values = {"title": data.draw(st.sampled_from(TITLES))}
            if data.draw(st.booleans()):
                recording = self._recording(data)
                values["recording"] = str(recording.pk) if recording else ""
            form = self.client.get(section.get_absolute_url()).context["form"]
            shown = {field.name: field.value() for field in form if field.value() is not None}
            assert self.client.post(section.get_absolute_url(), shown | values).status_code == 302

    @rule(title=st.sampled_from(["Book", "Tale"]), author=st.sampled_from(["Ames", "Brandt", ""]))
    def change_facts(self, title, author):
        Production.objects.filter(pk=self.production.pk).update(title=title, author=author)
        self.production.refresh_from_db()

    @rule(key=st.sampled_from(KEYS), pattern=st.sampled_from(PATTERNS), whole=st.sampled_from(["", "all of it"]))
    def name_files(self, key, pattern, whole):
        naming, _ = Naming.objects.get_or_create(production=self.production, outlet_key=key)
        naming.pattern = pattern if key != BOOK or pattern == "{exact}" else ""
        naming.whole_name = whole
        naming.save()

    @rule(prefix=st.sampled_from(["vo", "VO"]))
    def dictate(self, prefix):
        names = {section.pk: f"{prefix}_{section.pk}" for section in self._sections()}
        order.dictate(self.production, self.user, names)

    @rule(depth=st.sampled_from(DEPTHS))
    def change_rules(self, depth):
        self.depth = depth
        RuleSheet.change(self.user, parse(sheet(FLAC, depth)), f"{depth} asked")

    @rule(data=st.data())
    def make(self, data):
        keys = data.draw(st.lists(st.sampled_from(KEYS), min_size=1, max_size=2, unique=True))
        ready = [section for section in self._sections() if section.stretches()]
        if not ready:
            return
        sections = data.draw(st.sampled_from([ready, ready, [data.draw(st.sampled_from(ready))]]))
        choice = data.draw(st.sampled_from(["replace", "replace", "keep-both", "skip"]))
        self._begin(
            keys, sections, choice, again=data.draw(st.integers(0, 4)) == 0, some=data.draw(st.integers(0, 5)) == 0
        )
        if data.draw(st.integers(0, 3)):
            self.work(all_of_it=True)

    @rule(choice=st.sampled_from(["replace", "keep-both"]), now=st.booleans())
    def make_masters(self, choice, now):
        if ready := [section for section in self._sections() if section.stretches()]:
            self._begin([FLAC], ready, choice)
            if now:
                self.work(all_of_it=True)

    @rule(key=st.sampled_from(KEYS))
    def make_what_is_ticked(self, key):
        """All that is not up to date for an outlet, so that all of it is afterwards."""
        ready = [section for section in self._sections() if section.stretches()]
        if not ready or not all(self._words(section) for section in ready):
            return
        began = self._begin([key], ready, "replace")
        self.work(all_of_it=True)
        self._rewrite(key)
        if began and not self._under_way() and not self._unmade():
            board = Board(self.production, [outlets_of(self.user)[key]])
            for section in ready:
                found = board.at(section.pk, key)
                assert found.state in MADE, f"{key} of {section.title} is {found.words} right after it was made"

    @rule(count=st.integers(1, 3))
    def work(self, count=1, *, all_of_it=False):
        """Do some of the work that waits, or all of it."""
        _work_off(None if all_of_it else count)

    @rule(data=st.data())
    def cancel(self, data):
        if waiting := self._runs(self._under_way()):
            data.draw(st.sampled_from(waiting)).cancel()

    @rule(data=st.data())
    def run_again(self, data):
        if unmade := self._runs(self._unmade()):
            run_again(data.draw(st.sampled_from(unmade)))

    @rule(data=st.data())
    def rename(self, data):
        if standing := self._standing():
            file = data.draw(st.sampled_from(standing))
            everyone = list(FinishedFile.objects.filter(delivery__production=self.production))
            other = data.draw(st.sampled_from(everyone)).name.rpartition(".")[0]
            name = f"{data.draw(st.sampled_from([other, 'renamed']))}.{file.name.rpartition('.')[2]}"
            with self._names_noted(), suppress(MasteringError):
                file.delivery.rename([(file.name, name)])

    @rule(data=st.data())
    def undo_renaming(self, data):
        if runs := self._runs(self._standing()):
            with self._names_noted(), suppress(MasteringError):
                data.draw(st.sampled_from(runs)).undo_renaming()

    @rule(data=st.data())
    def write_tags(self, data):
        if runs := self._runs(self._standing()):
            delivery = data.draw(st.sampled_from(runs))
            words = {file.pk: found_in(file.path).words for file in delivery.files.standing()}
            retagging.write(delivery, set(words))
            for file in delivery.files.standing():
                assert found_in(file.path).words == words[file.pk], "writing tags changed the sound"

    @rule(key=st.sampled_from(KEYS))
    def write_what_changed(self, key):
        self._rewrite(key)

    @rule(data=st.data())
    def take_back(self, data):
        binned = list(FinishedFile.objects.filter(delivery__production=self.production, in_bin=True))
        if binned:
            with suppress(MasteringError):
                data.draw(st.sampled_from(binned)).take_back()

    @rule(data=st.data())
    def delete_recording(self, data):
        recording = self._recording(data)
        if recording and data.draw(st.integers(0, 2)) == 0:
            self.client.post(f"/recordings/{recording.pk}/delete/", {"sure": "yes"})

    @rule(count=st.integers(1, 4))
    def undo(self, count):
        for _ in range(count):
            undo(self.production)

    @rule(count=st.integers(1, 4))
    def redo(self, count):
        for _ in range(count):
            redo(self.production)

    # What must always be true.

    @invariant()
    def all_is_as_it_says(self):
        self.steps += 1
        self._known("judged", self._judge)

    def _judge(self) -> None:
        if self._standing():
            self._judge_standing()
            self._judge_board()

    def teardown(self):
        try:
            if self.steps:
                self.work(all_of_it=True)
                self.all_is_as_it_says()
                self.see_pages(self.pages_at_the_end or self.number % 3 == 0)
                self._judge_disk()
                self._undo_everything()
        finally:
            DBTaskResult.objects.all().delete()
            for folder in ("deliveries", "bin", "incoming"):
                shutil.rmtree(Path(settings.DATA_DIR) / folder, ignore_errors=True)

    def see_pages(self, count: int) -> None:
        """Pages that show sections, recordings and files answer; a different few each time."""
        base = self.production.get_absolute_url()
        addresses = [base, "/", f"/levels/{self.production.pk}/", "/deliveries/", "/recordings/storage/"]
        addresses += [f"{base}{page}/" for page in ("pairing", "names", "sheet", "edit", "history", "script")]
        addresses += [f"/deliveries/current/{self.production.pk}/{key}/" for key in KEYS]
        for section in self._sections():
            addresses += [section.get_absolute_url(), f"/cutting/sections/{section.pk}/"]
            addresses += [f"/levels/sections/{section.pk}/", f"/cutting/sections/{section.pk}/chapters/"]
        for recording in Recording.with_deleted.filter(production=self.production):
            addresses += [recording.get_absolute_url()] + [f"/cutting/{recording.pk}/"] * (recording.state != "deleted")
        for file in self._standing():
            addresses += [file.get_absolute_url(), file.delivery.get_absolute_url()]
            addresses += [f"/deliveries/{file.delivery_id}/{page}" for page in ("tags/", "rename.csv", "manifest.csv")]
        for at in range(min(count, len(addresses))):
            address = addresses[(self.steps * 7 + at * 11) % len(addresses)]
            answer = self.client.get(address)
            assert answer.status_code == 200, f"{address} answers {answer.status_code}"

    def _judge_standing(self) -> None:
        """Every file that stands is on the disk as its row says, under a name of its own, as its run was to make it."""
        names = set()
        for file in self._standing():
            assert file.path.exists(), f"{file.name} is not on the disk"
            assert found_in(file.path).sha256 == file.sha256, f"{file.name} is not the file that was checked"
            key = (file.delivery.outlet_key, file.name.casefold())
            assert key not in names, f"two files are called {file.name}"
            names.add(key)
            expected = self.settled.get(file.pk)
            if expected is not None:
                wrong = [said for said in differences(expected, file.path) if not said.startswith(("tags", "chapters"))]
                assert not wrong, f"{file.name} was made otherwise than its run began: {wrong}"

    def _judge_board(self) -> None:
        """What counts as up to date is what the production asks for now."""
        rows = self._rows()
        known = outlets_of(self.user)
        used = {file.delivery.outlet_key for file in self._standing()}
        board = Board(self.production, [known[key] for key in used])
        for key in used:
            expected = rows.expected(key, self.depth)
            for section in rows.sections:
                found = board.at(section["id"], key)
                if found.state not in MADE or found.file_id is None:
                    continue
                file = FinishedFile.objects.get(pk=found.file_id)
                own = expected.get(None if key == BOOK else section["id"])
                if own is None:
                    assert file.voice or rows.lanes(section) or self._has_voices(rows), (
                        f"{file.name} for {key} counts as up to date, and nothing can sound"
                    )
                    continue
                wrong = differences(own, file.path)
                was = self.settled.get(file.pk)
                if was is not None and was.asked != own.asked:
                    wrong.append(f"made as {was.asked}, asked as {own.asked}")
                stem, asked = self.chosen_names.get(file.pk) or (own.name, own.name)
                if file.pk in self.chosen_names:
                    # It was right when it was chosen, whatever was asked then, and is until something else is.
                    self.chosen_names[file.pk] = (stem, asked := asked or own.name)
                if asked != own.name or not file.name.rpartition(".")[0].casefold().startswith(stem.casefold()):
                    wrong.append(f"called {file.name}, not {own.name}")
                assert not wrong, f"{file.name} for {key} counts as up to date: {wrong}"
                if key == BOOK:
                    break

    def _judge_disk(self) -> None:
        """No file is left over, and what came in is as it came."""
        rows = {file.path for file in self._standing()}
        rows |= {f.path for f in FinishedFile.objects.filter(delivery__production=self.production, in_bin=True)}
        on_disk = {
            path
            for folder in ("deliveries", "bin")
            for path in (Path(settings.DATA_DIR) / folder).rglob("*")
            if path.is_file() and not path.name.startswith("waveform")
        }
        assert on_disk == rows, f"left over or missing: {on_disk ^ rows}"
        for recording in self.production.recordings.all():
            assert hashlib.sha256(recording.path.read_bytes()).hexdigest() == recording.sha256, recording.name

    def _undo_everything(self) -> None:
        after = self._shape()
        undone = 0
        while undo(self.production):
            undone += 1
        first, now = self.beginning, self._shape()
        assert {pk: row for pk, row in now[0].items() if pk in first[0]} == first[0], "undoing all is not the beginning"
        assert {pk: marks for pk, marks in now[1].items() if marks != ([], {})} == first[1], "marks are left"
        if self.number % 3:
            return
        for _ in range(undone):
            redo(self.production)
        assert self._shape() == after, "doing all again is not what was"

    def _shape(self) -> tuple[dict, dict]:
        """Sections and marks as they are, but for positions, which those that came in since may have moved."""
        left_out = ("position", "length_s")
        rows = Section.with_removed.filter(production=self.production).values()
        pieces = pieces_of(self.production)
        sections = {
            row["id"]: {k: v for k, v in row.items() if k not in left_out} | {"pieces": pieces.get(row["id"])}
            for row in rows
            if not row["removed"]
        }
        return sections, {page.pk: (page.marks, page.facts) for page in self.production.pages.all()}

    # What the rules above share.

    def _begin(self, keys, sections, choice, *, again=False, some=False) -> bool:
        """Begin a run, and keep what its files are to be; False where it was refused."""
        known = outlets_of(self.user)
        rows = self._rows()
        try:
            begun = start_run(
                self.production,
                [known[key] for key in keys],
                sections,
                existing=dict.fromkeys(keys, choice),
                again=again,
                some=some,
            )
        except MasteringError:
            return False
        for delivery in begun:
            expected = rows.expected(delivery.outlet_key, self.depth)
            for file in delivery.files.all():
                whole = None if file.excerpt or file.voice else expected.get(file.section_id)
                self.settled[file.pk] = whole
        return True

    def _rewrite(self, key: str) -> None:
        before = {file.pk: file.name for file in self._standing()}
        rows = Current(self.production, outlets_of(self.user)[key]).rows
        retagging.bring_up_to_date([file for _, file, changes in rows if file and changes and changes.rewritable])
        for file in self._standing():
            if file.name != before[file.pk]:
                self.chosen_names.pop(file.pk, None)

    @contextmanager
    def _names_noted(self):
        """Names that somebody chose hold until the production asks for others."""
        before = {file.pk: file.name for file in self._standing()}
        yield
        for file in self._standing():
            if file.name != before.get(file.pk, file.name):
                self.chosen_names[file.pk] = (file.name.rpartition(".")[0], "")

    def _do(self, page: Page, op: str, **values) -> bool:
        """An edit of a page; False where it was refused, and then nothing is changed."""
        before = self._shape()
        try:
            edits.do(page, self.user, op, values)
        except MasteringError:
            assert self._shape() == before, f"{op} was refused and changed something"
            return False
        return True

    def _sections(self) -> list[Section]:
        return list(self.production.sections.with_pieces())

    def _section(self, data) -> Section | None:
        sections = self._sections()
        return data.draw(st.sampled_from(sections)) if sections else None

    def _recording(self, data) -> Recording | None:
        ready = list(self.production.recordings.filter(state="ready").order_by("pk"))
        return data.draw(st.sampled_from(ready)) if ready else None

    def _page(self, data) -> tuple[Page | None, Any]:
        recording = self._recording(data)
        if recording is None:
            return None, None
        return Page.of(recording), next(take for take in TAKES if take.name == recording.name)

    def _shape_piece(self, section: Section, data) -> None:
        """Give a piece a gain and fades of its own, and say what it holds."""
        page = self.client.get(f"/cutting/sections/{section.pk}/")
        if not (rows := page.context["rows"]):
            # Its recording is gone.
            return
        row = data.draw(st.sampled_from(rows))
        said = {"do": "set", "seen": page.context["stamp"], "at": row["at"], "start": row["start"], "end": row["end"]}
        said |= {"join": row["join"], "join_s": row["join_s"], "gain_db": data.draw(st.sampled_from(GAINS_DB))}
        said |= {name: data.draw(st.sampled_from(FADES_S)) for name in ("fade_in_s", "fade_out_s")}
        said["kind"] = data.draw(st.sampled_from(["", "speech", "music"]))
        self.client.post(f"/cutting/sections/{section.pk}/", said)

    def _shapes(self, section: Section) -> list[tuple]:
        """Gain and fades of the pieces of a section that are there, and what each holds."""
        section = Section.objects.with_pieces().get(pk=section.pk)
        return [
            (each.gain_db, each.fade_in_s, each.fade_out_s, each.kind or section.content_kind)
            for each in section.stretches()
        ]

    def _words(self, section: Section) -> list[int] | None:
        rows = self._rows()
        row = next((row for row in rows.sections if row["id"] == section.pk), None)
        segments = rows.segments(row) if row else None
        return None if segments is None else [word for each in segments for word in each.words]

    def _all_words(self) -> list[int]:
        return [word for section in self._sections() for word in self._words(section) or ()]

    def _gains(self) -> dict[int, list[float]]:
        """The gain of each word wherever it sounds."""
        rows, told = self._rows(), defaultdict(list)
        for section in rows.sections:
            for heard in rows.segments(section) or ():
                for word in heard.words:
                    told[word].append(heard.gain_db)
        return {word: sorted(gains) for word, gains in told.items()}

    def _is_put_in(self, take: Take) -> bool:
        """Whether words of a take may sound as a pickup elsewhere."""
        pages = self.production.pages.all()
        return any(mark["kind"] == "pickup" for page in pages for mark in page.marks)

    def _has_voices(self, rows: Rows) -> bool:
        return any(rows.lanes(section) for section in rows.sections)

    def _files(self):
        return FinishedFile.objects.filter(delivery__production=self.production).select_related("delivery")

    def _standing(self) -> list[FinishedFile]:
        return self._known("standing", lambda: list(self._files().standing().order_by("pk")))

    def _rows(self) -> Rows:
        return self._known("rows", lambda: Rows(self.production))

    def _known(self, what: str, look):
        """What was looked up, for as long as this connection changes nothing."""
        connection.ensure_connection()
        changes = connection.connection.total_changes
        if self.at_work or self.looked_up.get(what, (None, -1))[1] != changes:
            self.looked_up[what] = (look(), changes)
        return self.looked_up[what][0]

    def _under_way(self) -> list[FinishedFile]:
        return list(self._files().under_way().order_by("pk"))

    def _unmade(self) -> list[FinishedFile]:
        return list(self._files().unmade().order_by("pk"))

    @staticmethod
    def _runs(files: list[FinishedFile]) -> list[Delivery]:
        return list({file.delivery_id: file.delivery for file in files}.values())
