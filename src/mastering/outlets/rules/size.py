"""Rules about length and size."""

from collections.abc import Sequence
from dataclasses import replace

from mastering.outlets.demands import Range
from mastering.outlets.rules.kind import BESIDE_SOUND, OF_DELIVERY, SIZE, Advice, RuleKind


def _too_large_together(demand: Range, sizes_mb: Sequence[float]) -> str:
    if sum(sizes_mb) <= demand.high:
        return ""
    return f"All files together will be larger than the {demand.high:g} MB this outlet takes."


def _too_large(demand: Range, sizes_mb: Sequence[float]) -> str:
    over = sum(size_mb > demand.high for size_mb in sizes_mb)
    return f"{over} of them will be larger than the {demand.high:g} MB this outlet takes." if over else ""


_SIZE = RuleKind(name="", label="", group=SIZE, unit="MB", least=0)

KINDS = [
    RuleKind(
        name="duration_s",
        label="Length",
        group=SIZE,
        unit="s",
        digits=0,
        least=0,
        is_length=True,
        advice=Advice(
            too_low="The file is too short. Join the section with the next on its row of the running order.",
            too_high="The file is too long. Split the section in two on its page.",
            terminal="Cut it in two, or join it with the next: sermovox cut.",
        ),
        figure=lambda examined: examined.facts.duration_s,
    ),
    replace(
        _SIZE,
        name="size_mb",
        label="Size of a file",
        scope=BESIDE_SOUND,
        advice=Advice(
            too_low="The file is smaller than asked.",
            too_high="The file is too large. Split the section on its page, or ask for a lower bitrate on the rule "
            "sheet.",
            terminal="Cut it in two with sermovox cut, or ask for a lower bitrate on the rule sheet.",
        ),
        figure=lambda examined: examined.facts.size_bytes / 1e6,
        foretells=_too_large,
    ),
    replace(
        _SIZE,
        name="delivery_mb",
        label="Size of the delivery",
        scope=OF_DELIVERY,
        same_for_all=True,
        makes_another=False,
        advice=Advice(
            too_high="All files together are too large. Deliver fewer sections at a time, or at a lower bitrate."
        ),
        together=lambda demand, files, extras: sum(file.size_bytes for file in files) / 1e6,
        foretells=_too_large_together,
    ),
]
