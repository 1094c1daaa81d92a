"""Odd values for every parameter of every address: an answer that says so, never an error of the server."""

import inspect
import re
import sys
import uuid
from functools import cache

from django.db import transaction
from django.urls import URLPattern, URLResolver, get_resolver
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from mastering.outlets.rulesheets import shipped
from mastering.tests.signals import speech
from sermovox.cutting.models import Page
from sermovox.deliveries.runs import start_run
from sermovox.outlets.models import RuleSheet
from sermovox.ui.tests.base import TUS, AppTestCase

_NAMED = re.compile(r'(?:get|getlist|pop|in|_number|values)\W{1,3}"([a-z_]{1,20})"|"([a-z_]{1,20})" (?:not )?in ')
_COUNT = 2
"""Requests for each address in a test run; a thousand were tried."""
ODD = (
    "", "²", "٣", "-1", "0", "1.5", "9" * 19, "9" * 5000, "1e400", "nan", "inf", "null", "[]", "{}", "x" * 70000,
    "\x00", "\ud800", "../../etc/passwd", "%00", "a\nb", "bytes=0-", "💥", "true", "1", "2",
)  # fmt: skip
ODDEST = ("²", "9" * 5000, "\x00")
HEADERS = {
    "Range": ("bytes=" + "9" * 5000 + "-", "bytes=-" + "9" * 5000, "bytes=²-", "bytes=5-2", "bytes=-0", "x" * 5000),
    "Upload-Length": ("²", "9" * 5000, "-1", "9" * 15),
    "Upload-Offset": ("²", "9" * 5000, "-1", "0"),
    "Upload-Metadata": (
        "filename",
        "filename ²",
        "rank " + "OTk5OTk5OTk5OTk5OTk=",
        "batch eHh4eHh4,batch eHh4",
        "x" * 9000,
    ),
}
odd = st.sampled_from(ODD) | st.text(max_size=30) | st.integers().map(str)
odd_json = st.recursive(
    st.none() | st.booleans() | st.integers() | st.floats() | st.sampled_from([o for o in ODD if o != "\ud800"]),
    lambda inner: st.lists(inner, max_size=3) | st.dictionaries(st.text(max_size=5), inner, max_size=3),
    max_leaves=5,
)


def addresses(resolver=None, prefix: str = "") -> list[tuple[str, URLPattern]]:
    """Every address of the application with the pattern behind it."""
    found = []
    for each in (resolver or get_resolver()).url_patterns:
        route = prefix + str(each.pattern)
        found += addresses(each, route) if isinstance(each, URLResolver) else [(route, each)]
    return found


@cache
def parameters_of(module: str) -> tuple[str, ...]:
    """The names that the views of a module look for in a request."""
    source = inspect.getsource(sys.modules[module])
    return tuple(sorted({a or b for a, b in _NAMED.findall(source)} | {"seen", "sure", "revision"}))


@cache
def deeds_of(module: str) -> tuple[str, ...]:
    """What the views of a module can be asked to do."""
    known = getattr(sys.modules[module], "_CHANGES", ())
    lines = re.findall(r"^.*\bdo (?:==|in) .*$", inspect.getsource(sys.modules[module]), re.MULTILINE)
    return tuple(sorted({*known, *re.findall(r'"([a-z]{2,20})"', "".join(lines))}))


class OddValues(AppTestCase):
    takes_long = True

    def prepare(self):
        super().prepare()
        section = self.bring_in(speech(seconds=3))
        self.bring_in(speech(seconds=3, seed=8), name="two.wav")
        page = Page.of(section.recording)
        page.set_marks([])
        RuleSheet.change(self.narrator, shipped()["podcast-host"], "Mine")
        (delivery,) = start_run(self.production, [shipped()["podcast-host"]], [section])
        self.work()
        upload = self.begin_upload("half.wav", 10)["Location"].rstrip("/").rpartition("/")[2]
        number = {"production_id": self.production.pk, "pk": 1, "number": 1}
        self.right = {"int": number, "slug": {"key": "podcast-host"}, "uuid": {"pk": upload}}
        self.right["str"] = {"name": "labels.txt", "sha256": "0" * 64, "key": "podcast-host"}
        self.delivery = delivery

    def filled(self, route: str, data) -> str:
        """An address with its numbers and keys filled in, now and then with odd ones."""

        def one(found: re.Match) -> str:
            kind, _, name = found[1].rpartition(":")
            if data.draw(st.integers(0, 5)) == 0:
                odd_ones = {"int": "9" * 30, "uuid": str(uuid.uuid4()), "slug": "x" * 300, "str": "²"}
                return odd_ones.get(kind or "str", "²")
            return str(self.right[kind or "str"].get(name, 1))

        return "/" + re.sub(r"<([^>]+)>", one, route)

    def ask(self, address: str, method: str, values: dict, headers: dict | None = None) -> None:
        """Send one request, of which nothing stays, so that each finds everything there."""
        headers = TUS | {n: text.encode("utf-8", "replace").decode("latin-1") for n, text in (headers or {}).items()}
        with transaction.atomic():
            if method == "json":
                answer = self.client.post(address, values, content_type="application/json", headers=headers)
            elif method == "patch":
                kind = "application/offset+octet-stream"
                answer = self.client.patch(address, b"xx", content_type=kind, headers=headers)
            else:
                answer = getattr(self.client, method)(address, values or None, headers=headers)
            if answer.streaming:
                for _, _ in zip(range(3), answer.streaming_content, strict=False):
                    pass
            answer.close()
            transaction.set_rollback(True)
        self.assertTrue(answer.status_code < 500 or answer.status_code == 507, (address, method, headers))

    def drawn(self, route: str, module: str, data) -> None:
        """A request with whatever hypothesis comes upon."""
        address = self.filled(route, data)
        method = data.draw(st.sampled_from(["get", "post", "json", "patch", "delete", "head"]))
        wanted = data.draw(st.lists(st.sampled_from(sorted(HEADERS)), max_size=2, unique=True))
        headers = {name: data.draw(st.sampled_from(HEADERS[name])) for name in wanted}
        if method == "json":
            values = data.draw(st.dictionaries(st.sampled_from(parameters_of("sermovox.cutting.edits")), odd_json))
            values |= {"revision": self.revision()} if data.draw(st.booleans()) else {}
        else:
            names = st.sampled_from(parameters_of(module))
            values = data.draw(st.dictionaries(names, st.lists(odd, min_size=1, max_size=2), max_size=5))
            values = {n: [text.encode("utf-8", "replace").decode() for text in each] for n, each in values.items()}
        self.ask(address, method, values, headers)

    def in_all(self, route: str, module: str) -> None:
        """Each of the oddest values for all parameters at once, with everything that a view can be asked to do."""
        address = re.sub(r"<(?:(\w+):)?(\w+)>", lambda each: str(self.right[each[1] or "str"].get(each[2], 1)), route)
        named = parameters_of(module)
        deeds = [*deeds_of(module), None] if "do" in named else [None]
        for oddest in ODDEST:
            values = dict.fromkeys(named, oddest)
            self.ask(f"/{address}", "get", values)
            for deed in deeds:
                self.ask(f"/{address}", "post", values | ({"do": deed} if deed else {}))

    def revision(self) -> str:
        return self.client.get("/cutting/1/state/").json().get("revision", "")

    def test_every_address_answers_to_odd_values(self):
        asked = addresses()
        self.assertGreater(len(asked), 90)
        for route, pattern in asked:
            module = inspect.unwrap(pattern.callback).__module__
            if "sign-out" in route:
                continue

            @settings(max_examples=_COUNT, deadline=None, database=None, suppress_health_check=list(HealthCheck))
            @given(st.data())
            def hold(data):
                self.drawn(route, module, data)  # noqa: B023 - called before the next turn

            with self.subTest(route):
                self.in_all(route, module)
                hold()

    def test_what_was_found_once_stays_found(self):
        at, file = f"/productions/{self.production.pk}", self.delivery.files.get()
        take = self.production.recordings.last()
        for address in (
            f"/recordings/{take.pk}/audio/",
            f"/deliveries/files/{file.pk}/audio/",
            f"/cutting/{take.pk}/sound/?start=0&end=1000",
        ):
            for wanted in HEADERS["Range"]:
                self.assertIn(self.client.get(address, headers={"Range": wanted}).status_code, (200, 206, 404, 416))
        for text in ODD[:8]:
            for name in ("section", "before", "after", "file", "shown", "to", "voice", "recording", "at"):
                for address in (f"{at}/order/", f"{at}/start/", f"/levels/{self.production.pk}/", "/sections/1/"):
                    self.assertLess(self.client.post(address, {name: text, "do": "move"}).status_code, 500)
