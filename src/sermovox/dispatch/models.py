"""What is sent where, and how far it is: dispatches with their parts, which are the receipts once all arrived."""

from collections.abc import Sequence
from datetime import timedelta
from pathlib import Path

from django.conf import settings
from django.db import models, transaction
from django.db.models import Exists, OuterRef, Q
from django.urls import reverse
from django.utils import timezone

from mastering.outlets.receiving import Receiving, receiving_from
from mastering.outlets.ways import BY_SIZE
from mastering.said import Said
from sermovox.deliveries.models import Delivery, FinishedFile
from sermovox.dispatch import secrets
from sermovox.dispatch.ways.carrier import Access, NotSent, fingerprint
from sermovox.keeping import copied, storage
from sermovox.keeping.sentences import SaidField
from sermovox.productions.models import Production

MOST_TRIES = 8
_FIRST_PAUSE_S, _LONGEST_PAUSE_S = 15, 3600


class Secret(models.Model):
    """What opens a person's outlet: a password and a key, sealed, and the host key its server is known by. It belongs
    to one `door`, the way, server, port and user together, and opens no other.
    """

    owner = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.CASCADE, related_name="outlet_secrets")
    outlet_key = models.SlugField(max_length=60)
    door = models.CharField(max_length=1000, blank=True)
    token = models.TextField(blank=True)
    key_token = models.TextField(blank=True)
    host_key = models.TextField(blank=True)

    class Meta:
        constraints = [models.UniqueConstraint(fields=["owner", "outlet_key"], name="one_secret_of_an_outlet")]

    def __str__(self) -> str:
        return f"of {self.outlet_key}"

    @property
    def fingerprint(self) -> str:
        """The host key as people compare it."""
        return fingerprint(self.host_key)

    @classmethod
    def keep(cls, owner, outlet_key: str, receiving: Receiving, *, password: str = "", key: str = "") -> str:
        """Keep a password or a key in place of the one before; what is empty stays as it is, unless it was of another
        door: that is forgotten. Returns that door, where nothing came in its place.
        """
        forgotten = cls.forget_others(owner, outlet_key, receiving)
        kept = {"token": password, "key_token": key}
        values = {name: secrets.sealed(text) for name, text in kept.items() if text}
        if values:
            values["door"] = receiving.door
            cls.objects.update_or_create(owner=owner, outlet_key=outlet_key, defaults=values)
        return "" if values else forgotten

    @classmethod
    def forget_others(cls, owner, outlet_key: str, receiving: Receiving) -> str:
        """Delete what opened another door of this outlet. Returns which, where there was one."""
        for other in cls.objects.filter(owner=owner, outlet_key=outlet_key).exclude(door=receiving.door):
            other.delete()
            return other.door if other.token or other.key_token else ""
        return ""

    @classmethod
    def of(cls, owner, outlet_key: str, receiving: Receiving) -> Access:
        """What there is for this way, in plain text. Raises NotSent where it cannot be read, or is another's."""
        found = cls.objects.filter(owner=owner, outlet_key=outlet_key).first()
        if found is None:
            return Access()
        if found.door != receiving.door:
            if not found.token and not found.key_token:
                return Access()
            raise NotSent(
                Said("password-kept-outlet-shown-no", door=found.door or "another server", door_2=receiving.door)
            )
        password, key = (secrets.opened(token) if token else "" for token in (found.token, found.key_token))
        return Access(password, key, found.host_key)

    @classmethod
    def know(cls, owner, outlet_key: str, receiving: Receiving, access: Access) -> None:
        """Know a server by its host key from now on, where it was met for the first time."""
        if access.host_key:
            cls.forget_others(owner, outlet_key, receiving)
            same = {"owner": owner, "outlet_key": outlet_key, "door": receiving.door}
            cls.objects.get_or_create(**same)
            cls.objects.filter(**same, host_key="").update(host_key=access.host_key)


class DispatchQuerySet(models.QuerySet):
    def of(self, user) -> "DispatchQuerySet":
        return self.filter(owner=user)

    def news(self) -> "DispatchQuerySet":
        """Those that have come to an end, or are stuck, since their owner looked at them."""
        return self.filter(seen=False, state__in=(Dispatch.State.STUCK, *Dispatch.GONE))

    def under_way(self) -> "DispatchQuerySet":
        return self.filter(state__in=(Dispatch.State.WAITING, Dispatch.State.SENDING))

    def due(self) -> "DispatchQuerySet":
        """Those that wait for nothing but a worker."""
        return self.filter(Q(next_at=None) | Q(next_at__lte=timezone.now()), state=Dispatch.State.WAITING)


class Dispatch(models.Model):
    """Files of a delivery on their way to an outlet. What it says of titles and place stays when these are no more.

    `receiving` is how the outlet received when it was begun, `said` what stands in the way, `seen` whether its owner
    was told what came of it, `replacing` whether files of other content over there give way, `name_taken` whether that
    is all that is asked. Of a mail, `message_id` is how it is known, `subject` and `note` what it says, and `link_key`
    opens its links until `links_until`.
    """

    class State(models.TextChoices):
        WAITING = "waiting"
        SENDING = "sending"
        PAUSED = "paused"
        SENT = "sent"
        THERE = "there"
        ARRIVED = "arrived"
        STUCK = "stuck"
        CANCELLED = "cancelled"

    owner = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.CASCADE, related_name="dispatches")
    delivery = models.ForeignKey(Delivery, on_delete=models.SET_NULL, null=True, related_name="dispatches")
    production = models.ForeignKey(Production, on_delete=models.SET_NULL, null=True, related_name="dispatches")
    production_title = models.CharField(max_length=200)
    outlet_key = models.SlugField(max_length=60)
    outlet_title = models.CharField(max_length=100)
    receiving = models.JSONField()
    replacing = models.BooleanField(default=False)
    name_taken = models.BooleanField(default=False)
    failing = models.PositiveIntegerField(default=0)
    state = models.CharField(max_length=12, choices=State, default=State.WAITING)
    said = SaidField(blank=True)
    tries = models.PositiveSmallIntegerField(default=0)
    next_at = models.DateTimeField(null=True)
    created_at = models.DateTimeField(auto_now_add=True)
    started_at = models.DateTimeField(null=True)
    started_bytes = models.PositiveBigIntegerField(default=0)
    ended_at = models.DateTimeField(null=True)
    seen = models.BooleanField(default=False)
    subject = models.CharField(max_length=1000, blank=True)
    note = models.TextField(blank=True)
    message_id = models.CharField(max_length=200, blank=True)
    link_key = models.CharField(max_length=64, blank=True, db_index=True)
    links_until = models.DateTimeField(null=True)

    objects = DispatchQuerySet.as_manager()
    GONE = (State.SENT, State.THERE, State.ARRIVED)
    OVER = (*GONE, State.CANCELLED)

    class Meta:
        ordering = ["-pk"]

    def __str__(self) -> str:
        return Said("one-to-another", one=self.production_title, another=self.outlet_title)

    def get_absolute_url(self) -> str:
        return reverse("dispatch:detail", args=[self.pk])

    @property
    def way(self) -> Receiving:
        return receiving_from(self.receiving)

    @property
    def folder(self) -> Path:
        """Where what goes along lies until it has arrived."""
        return Path(settings.DATA_DIR) / "dispatch" / str(self.pk)

    @property
    def is_under_way(self) -> bool:
        return self.state in (self.State.WAITING, self.State.SENDING)

    @property
    def is_over(self) -> bool:
        return self.state in self.OVER

    def begin(self) -> bool:
        """Take it in hand. False where it is not due, another goes to the same place just now, or this is a copy."""
        if copied.is_held():
            return False
        with transaction.atomic():
            others = Dispatch.objects.filter(owner=self.owner_id, outlet_key=self.outlet_key, state=self.State.SENDING)
            if others.exists():
                return False
            due = Dispatch.objects.due().filter(pk=self.pk)
            begun = {"started_at": timezone.now(), "started_bytes": self.over_there_bytes}
            return bool(due.update(state=self.State.SENDING, said="", next_at=None, **begun))

    @property
    def over_there_bytes(self) -> int:
        """How much is known to be over there."""
        return sum(self.parts.values_list("sent_bytes", flat=True))

    def is_wanted(self) -> bool:
        """Whether nobody has paused or cancelled it meanwhile."""
        return Dispatch.objects.filter(pk=self.pk, state=self.State.SENDING).exists()

    @property
    def links_work(self) -> bool:
        """Whether what did not fit into a mail can be fetched by its links."""
        return bool(self.link_key and self.links_until and self.links_until > timezone.now())

    def end_links(self) -> None:
        """Let nobody fetch anything by its links any more."""
        Dispatch.objects.filter(pk=self.pk).update(links_until=timezone.now())

    def note_seen(self) -> None:
        """Its owner looks at what came of it."""
        Dispatch.objects.news().filter(pk=self.pk).update(seen=True)

    @property
    def how_it_went(self) -> str:
        """What it is once nothing of it is left to be sent: what was only counted over there is not said to have
        arrived.
        """
        if self.way.kind.is_post:
            return self.State.SENT
        return self.State.THERE if self.parts.filter(state=Part.State.THERE).exists() else self.State.ARRIVED

    def look_whether_arrived(self) -> None:
        """It has arrived once all that it brings has."""
        if not self.parts.exclude(state=Part.State.ARRIVED).exists():
            sent = Dispatch.objects.filter(pk=self.pk, state__in=(self.State.SENT, self.State.THERE))
            sent.update(state=self.State.ARRIVED, ended_at=timezone.now(), seen=False)

    def settle(self, state: str, said: str = "", *, name_taken: bool = False) -> None:
        """Note what came of it, unless somebody has paused or cancelled it meanwhile."""
        ended = timezone.now() if state in (*self.OVER, self.State.STUCK) else None
        own = Dispatch.objects.filter(pk=self.pk, state=self.State.SENDING)
        own.update(state=state, said=said, ended_at=ended, next_at=None, name_taken=name_taken, seen=False)
        self.refresh_from_db()
        if self.is_over:
            storage.forget_folder(self.folder)

    def put_off(self, said: str, *, moved: bool) -> None:
        """Try it again later: with longer and longer pauses, and not for ever unless something `moved` meanwhile."""
        tries = 1 if moved else self.tries + 1
        if tries > MOST_TRIES:
            self.settle(self.State.STUCK, Said("tried-times", said=said, most_tries=MOST_TRIES))
            return
        pause_s = min(_LONGEST_PAUSE_S, _FIRST_PAUSE_S * 2 ** (tries - 1))
        own = Dispatch.objects.filter(pk=self.pk, state=self.State.SENDING)
        own.update(
            state=self.State.WAITING, said=said, tries=tries, next_at=timezone.now() + timedelta(seconds=pause_s)
        )
        self.refresh_from_db()

    def pause(self) -> None:
        Dispatch.objects.under_way().filter(pk=self.pk).update(state=self.State.PAUSED, said="", next_at=None)

    def go_on(self, *, replacing: bool = False) -> bool:
        """Take it up again, at once; with `replacing`, files over there give way from now on. False where there is
        nothing to take up.
        """
        waiting = Q(state__in=(self.State.PAUSED, self.State.STUCK, self.State.WAITING))
        own = Dispatch.objects.filter(waiting, pk=self.pk)
        again = {"state": self.State.WAITING, "said": "", "tries": 0, "next_at": None, "ended_at": None}
        return bool(own.update(**again, replacing=self.replacing or replacing, name_taken=False))

    def cancel(self) -> None:
        """Send nothing more. What has arrived stays there."""
        own = Dispatch.objects.filter(pk=self.pk).exclude(state__in=self.OVER)
        if own.update(state=self.State.CANCELLED, said="", next_at=None, ended_at=timezone.now()):
            storage.forget_folder(self.folder)


class Promise(models.Model):
    """Who wants what is made of a production for an outlet, and by which day; kept once all of it was there."""

    production = models.ForeignKey(Production, on_delete=models.CASCADE, related_name="promises")
    outlet_key = models.SlugField(max_length=60)
    client = models.CharField(max_length=100, blank=True)
    due_on = models.DateField(null=True)
    kept_at = models.DateTimeField(null=True)

    class Meta:
        ordering = ["due_on", "pk"]
        constraints = [models.UniqueConstraint(fields=["production", "outlet_key"], name="one_promise_to_an_outlet")]

    def __str__(self) -> str:
        return f"{self.production} to {self.outlet_key} by {self.due_on}"

    @property
    def is_late(self) -> bool:
        return self.kept_at is None and self.due_on is not None and self.due_on < timezone.localdate()


class Heard(models.Model):
    """That somebody has listened to a finished file, as it is: made anew, it is another file."""

    file = models.OneToOneField(FinishedFile, on_delete=models.CASCADE, related_name="heard")
    by = models.CharField(max_length=150)
    at = models.DateTimeField(auto_now_add=True)

    def __str__(self) -> str:
        return f"{self.file} by {self.by}"

    @classmethod
    def without(cls, files: Sequence[FinishedFile]) -> list[FinishedFile]:
        """Those that nobody has listened to."""
        heard = set(cls.objects.filter(file__in=files).values_list("file", flat=True))
        return [file for file in files if file.pk not in heard]


class Wish(models.Model):
    """That what is made for an outlet is sent by itself once all of it passes, and with `after_hearing` not before
    somebody has listened to it: a delivery, or all of a production that are begun from now on.
    """

    production = models.ForeignKey(Production, on_delete=models.CASCADE, related_name="send_wishes")
    outlet_key = models.SlugField(max_length=60)
    delivery = models.ForeignKey(Delivery, on_delete=models.CASCADE, null=True, related_name="send_wishes")
    after_hearing = models.BooleanField(default=False)
    created_at = models.DateTimeField(auto_now_add=True)

    class Meta:
        constraints = [
            models.UniqueConstraint(fields=["delivery"], name="one_wish_of_a_delivery"),
            models.UniqueConstraint(
                fields=["production", "outlet_key"], condition=Q(delivery=None), name="one_standing_wish"
            ),
        ]

    def __str__(self) -> str:
        return f"{self.production} to {self.outlet_key} by itself"

    @classmethod
    def fulfillable(cls) -> list[Delivery]:
        """The deliveries that are to be sent by themselves, are made, and were not sent yet."""
        made = Delivery.objects.filter(dispatches=None, cancelled_at=None).exclude(
            files__state__in=(FinishedFile.State.WAITING, FinishedFile.State.MAKING)
        )
        own = cls.objects.filter(delivery=OuterRef("pk"))
        standing = cls.objects.filter(
            delivery=None,
            production=OuterRef("production"),
            outlet_key=OuterRef("outlet_key"),
            created_at__lte=OuterRef("created_at"),
        )
        at_once = Exists(own.filter(after_hearing=False)) | Exists(standing.filter(after_hearing=False))
        wished = made.filter(Exists(own) | Exists(standing)).annotate(at_once=at_once)
        return [
            delivery
            for delivery in wished.select_related("production__owner")
            if delivery.passes and (delivery.at_once or not Heard.without(delivery.stands))
        ]


class Part(models.Model):
    """One file of a dispatch. `file` is none for what goes along, which lies in the dispatch's own folder.

    `name` is what it is called over there, folders and all; `answered` what the far side said, `proof` how it is known
    that it arrived: what was only counted has not `ARRIVED`, it is `THERE`. With `by_link` a mail has a link in its
    place, and `sent_bytes` is how much was fetched by it.
    """

    class State(models.TextChoices):
        WAITING = "waiting"
        SENDING = "sending"
        SENT = "sent"
        THERE = "there"
        ARRIVED = "arrived"
        STUCK = "stuck"

    LANDED = (State.THERE, State.ARRIVED)
    GONE = (State.SENT, *LANDED)
    dispatch = models.ForeignKey(Dispatch, on_delete=models.CASCADE, related_name="parts")
    file = models.ForeignKey(FinishedFile, on_delete=models.SET_NULL, null=True, related_name="dispatched")
    place = models.PositiveIntegerField()
    name = models.CharField(max_length=1000)
    title = models.CharField(max_length=200, blank=True)
    size_bytes = models.PositiveBigIntegerField()
    sha256 = models.CharField(max_length=64)
    fails = models.BooleanField(default=False)
    state = models.CharField(max_length=12, choices=State, default=State.WAITING)
    sent_bytes = models.PositiveBigIntegerField(default=0)
    by_link = models.BooleanField(default=False)
    answered = SaidField(blank=True)
    proof = SaidField(blank=True)
    arrived_at = models.DateTimeField(null=True)

    class Meta:
        ordering = ["place"]

    def __str__(self) -> str:
        return self.name

    @property
    def path(self) -> Path | None:
        """Where its bytes lie here; None where they are no more."""
        if self.file_id:
            return self.file.path if self.file else None
        return self.dispatch.folder / Path(self.name).name

    @property
    def under_way_as(self) -> str:
        """What it is called over there until it is whole: by its content, so that no other is gone on with."""
        return f"{self.name}.{self.sha256[:8]}.part"

    def note(self, **facts) -> None:
        """Keep some facts of it."""
        for name, value in facts.items():
            setattr(self, name, value)
        self.save(update_fields=list(facts))

    @classmethod
    def on_their_way(cls, production) -> dict[int, str]:
        """How far the finished files of a production are, by their keys: that they went, or what is at work."""
        rows = cls.objects.filter(file__delivery__production=production).order_by("pk")
        told = {}
        for file_id, own, whole in rows.values_list("file_id", "state", "dispatch__state"):
            if own in cls.GONE:
                told[file_id] = own
            elif whole in (Dispatch.State.SENDING, Dispatch.State.STUCK):
                told[file_id] = whole
        return told

    def land(self, proof: str) -> None:
        """It is over there, as far as that is known; not kept yet."""
        self.state = self.State.THERE if proof == BY_SIZE else self.State.ARRIVED
        self.sent_bytes, self.proof, self.arrived_at = self.size_bytes, proof, timezone.now()

    def arrive(self, proof: str) -> None:
        self.land(proof)
        self.save(update_fields=["state", "sent_bytes", "proof", "answered", "arrived_at"])
