"""Rules about length and size."""

from collections.abc import Sequence
from dataclasses import replace

from mastering.outlets.demands import Range
from mastering.outlets.rules.kind import BESIDE_SOUND, OF_DELIVERY, SIZE, Advice, RuleKind
from mastering.said import Said


def _too_large_together(demand: Range, sizes_mb: Sequence[float]) -> str:
    if sum(sizes_mb) <= demand.high:
        return ""
    return Said("all-files-together-will-larger", high=demand.high)


def _too_large(demand: Range, sizes_mb: Sequence[float]) -> str:
    over = sum(size_mb > demand.high for size_mb in sizes_mb)
    return Said("them-will-larger-than-mb", over=over, high=demand.high) if over else ""


_SIZE = RuleKind(name="", label="", group=SIZE, unit="MB", least=0)

KINDS = [
    RuleKind(
        name="duration_s",
        label=Said("length"),
        group=SIZE,
        unit="s",
        digits=0,
        least=0,
        is_length=True,
        advice=Advice(
            too_low=Said("file-too-short-join-section"),
            too_high=Said("file-too-long-split-section"),
            terminal=Said("cut-or-join-terminal"),
        ),
        figure=lambda examined: examined.facts.duration_s,
    ),
    replace(
        _SIZE,
        name="size_mb",
        label=Said("size-file"),
        scope=BESIDE_SOUND,
        advice=Advice(
            too_low=Said("file-smaller-than-asked"),
            too_high=Said("file-too-large-split-section"),
            terminal=Said("cut-or-lower-terminal"),
        ),
        figure=lambda examined: examined.facts.size_bytes / 1e6,
        foretells=_too_large,
    ),
    replace(
        _SIZE,
        name="delivery_mb",
        label=Said("size-delivery"),
        scope=OF_DELIVERY,
        same_for_all=True,
        makes_another=False,
        advice=Advice(too_high=Said("all-files-together-too-large")),
        together=lambda demand, files, extras: sum(file.size_bytes for file in files) / 1e6,
        foretells=_too_large_together,
    ),
]
