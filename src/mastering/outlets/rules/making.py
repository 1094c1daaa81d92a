"""Rules about format and bitrate: what a file is encoded as."""

from collections.abc import Mapping
from dataclasses import replace

from mastering.audio.encodings import Encoding
from mastering.audio.formats import (
    AVERAGE,
    BIT_RATE_MODES,
    CONSTANT,
    FLOAT_32,
    INT_16,
    INT_24,
    INT_32,
    QUALITY,
    VARIABLE,
    WRITTEN,
    fits_ending,
    written_in,
)
from mastering.naming.checks import split_ending
from mastering.outlets.demands import Demand, Named, Range
from mastering.outlets.findings import Finding
from mastering.outlets.rules.holding import by_extremes, by_figure, is_exactly
from mastering.outlets.rules.kind import (
    ASKED,
    BITRATE,
    CHOICE,
    FORMAT,
    NUMBER,
    UNTOLD,
    Advice,
    Asked,
    Examined,
    Figure,
    RuleKind,
)
from mastering.said import Said, together, within, word

MONO, STEREO, AS_SOURCE = "mono", "stereo", "as recorded"
JOINT, SEPARATE = "joint stereo", "separate stereo"
NOT_CONSTANT = "not constant"
"""The bitrate mode of a file that does not say more of it."""
MAKE_AGAIN = Said("make-file-again-outlet-from")
AGAIN = Advice(other=MAKE_AGAIN)
_STEREOS = (STEREO, JOINT, SEPARATE)
_PLAIN_PCM = "pcm_s16le"


def _container(asked: Asked, examined: Examined) -> Finding:
    figure = examined.carried.container or examined.facts.container
    ending = split_ending(examined.name)[1]
    if ending and not fits_ending(ending, container=figure, codec=examined.facts.codec):
        # A sheet may take several containers, each for its own files; a file has to end as what it is.
        figure = Said("file-ends", figure=figure, ending=ending)
    return by_figure(asked, figure, examined)


def _codec_against(asked: Mapping[str, Demand], encoding: Encoding) -> str:
    if asked["codec"].first == _PLAIN_PCM and encoding.sample_format != INT_16:
        return Said("16-bit-sound-asked-take", plain_pcm=_PLAIN_PCM, sample_format=encoding.sample_format)
    return ""


def _is_codec(figure: Figure, named: Named) -> bool:
    uncompressed = "pcm" in named.values and isinstance(figure, str) and figure.startswith("pcm_")
    return uncompressed or figure in named.values


def _channels(examined: Examined) -> str:
    count = examined.facts.channels
    if count == 2 and examined.carried.joint is not None:
        return JOINT if examined.carried.joint else SEPARATE
    return {1: MONO, 2: STEREO}.get(count, Said("channels", count=count))


def _is_layout(figure: Figure, named: Named) -> bool:
    fit = {AS_SOURCE: (MONO, *_STEREOS), STEREO: _STEREOS}
    return any(figure in fit.get(str(each), (each,)) for each in named.values)


def _layout_words(demand: Demand) -> str:
    return (
        Said("or", mono=word(MONO), stereo=word(STEREO), as_source=word(AS_SOURCE))
        if demand == Named((AS_SOURCE,))
        else demand.words()
    )


def _channels_against(asked: Mapping[str, Demand], encoding: Encoding) -> str:
    layout = asked["channels"].first
    told = []
    if layout in (JOINT, SEPARATE) and encoding.codec != "mp3":
        told.append(Said("matter-mp3-alone-ask-stereo", layout=word(str(layout))))
    if layout == SEPARATE and encoding.mode != CONSTANT:
        told.append(Said("separate-stereo-written-constant-bitrate"))
    return together(told)


def _channels_refused(demands: Mapping[str | None, Demand]) -> str:
    for variant, other in ((MONO, _STEREOS), (STEREO, (MONO,))):
        if variant in demands and (asked := demands[variant].first) in other:
            return Said("files-asked-ask-same-all", variant=word(variant), asked=word(str(asked)))
    return ""


def _sample_format(examined: Examined) -> str:
    facts = examined.facts
    if facts.bit_depth is None:
        return "lossy"
    return Said("bit-float" if facts.floating_point else "bit-integer", bit_depth=facts.bit_depth)


def _depth_against(asked: Mapping[str, Demand], encoding: Encoding) -> str:
    return Said("lossy-format-no-bit-depth") if encoding.lossy else ""


def _broadcast_against(asked: Mapping[str, Demand], encoding: Encoding) -> str:
    return "" if written_in(encoding.container).broadcast else Said("bwf-description-matter-wav-alone")


def _without_loss(asked: Mapping[str, Demand], encoding: Encoding, name: str) -> str:
    """What is said of the first rule about bitrates where the format is one without loss."""
    first = next(each.name for each in KINDS if each.group == BITRATE and each.name in asked)
    if encoding.lossy or first != name:
        return ""
    label = within(next(kind.label for kind in KINDS if kind.name == name))
    return Said("format-without-loss-follows-from", label=label)


def _bit_rate(asked: Asked, examined: Examined) -> Finding:
    """The bitrates of the single frames of an MP3 are all to lie in the range where a variable one is asked."""
    frames_kbps, mode = examined.facts.frame_kbps, examined.asked.get("bit_rate_mode")
    aimed = isinstance(asked.demand, Range) and asked.demand.target is not None
    if frames_kbps and mode and mode.first == VARIABLE and not aimed:
        return by_extremes(asked, *frames_kbps, average=examined.facts.bit_rate_kbps or 0.0)
    return by_figure(asked, examined.facts.bit_rate_kbps, examined)


def _bit_rate_against(asked: Mapping[str, Demand], encoding: Encoding) -> str:
    if encoding.lossy and encoding.mode == AVERAGE and asked["bit_rate_kbps"].first is not None:
        return Said("average-bitrate-never-met-exactly")
    return _without_loss(asked, encoding, "bit_rate_kbps")


def _mode(examined: Examined) -> str | None:
    constant, said = examined.facts.constant_bit_rate, examined.carried.mode
    if constant is None:
        return None
    if said and (constant or said != CONSTANT):
        # An even sound may well get the same bitrate throughout; what the file says of its making tells more.
        return said
    return CONSTANT if constant else NOT_CONSTANT


def _is_mode(figure: Figure, named: Named) -> bool:
    # So LAME calls what follows from a quality; which, is a rule of its own.
    fit = {AVERAGE: (NOT_CONSTANT,), VARIABLE: (NOT_CONSTANT,), QUALITY: (NOT_CONSTANT, VARIABLE)}
    return any(figure == each or figure in fit.get(str(each), ()) for each in named.values)


def _quality(examined: Examined) -> str | int | None:
    found = examined.carried.quality
    return UNTOLD if found is None and examined.facts.codec == "vorbis" else found


def _quality_against(asked: Mapping[str, Demand], encoding: Encoding) -> str:
    told = [_without_loss(asked, encoding, "quality")]
    if encoding.mode != QUALITY:
        told.append(Said("quality-asked-bitrate-mode-leaves"))
    return together(filter(None, told))


def _is_quality(figure: Figure, named: Named) -> bool:
    return any(is_exactly(figure, each) for each in named.values)


_FORMAT = RuleKind(name="", label="", group=FORMAT, takes=CHOICE, advice=AGAIN)
_BITRATE = RuleKind(name="", label="", group=BITRATE, takes=NUMBER, advice=AGAIN)

KINDS = [
    replace(
        _FORMAT,
        name="container",
        label=Said("container"),
        wanted=True,
        choices=WRITTEN.keys(),
        unknown=lambda *, name, **told: Said("sermovox-does-not-write", **told),
        figure=lambda examined: examined.carried.container or examined.facts.container,
        held=_container,
    ),
    replace(
        _FORMAT,
        name="codec",
        label=Said("codec"),
        choices=("mp3", "aac", "alac", "pcm", _PLAIN_PCM, "flac", "vorbis", "opus", "wmav2"),
        hint=Said("container-left-open"),
        figure=lambda examined: examined.facts.codec,
        alike=_is_codec,
        contradicts=_codec_against,
    ),
    replace(
        _FORMAT,
        name="channels",
        label=Said("channels-label"),
        wanted=True,
        choices=(MONO, STEREO, JOINT, SEPARATE, AS_SOURCE),
        said=_layout_words,
        figure=_channels,
        alike=_is_layout,
        contradicts=_channels_against,
        refuses=_channels_refused,
    ),
    replace(
        _FORMAT,
        name="sample_rate_hz",
        label=Said("sample-rate"),
        wanted=True,
        takes=NUMBER,
        least=8000,
        most=192000,
        unit="Hz",
        digits=0,
        figure=lambda examined: examined.facts.sample_rate_hz,
    ),
    replace(
        _FORMAT,
        name="sample_format",
        label=Said("bit-depth"),
        choices=(INT_16, INT_24, INT_32, FLOAT_32),
        figure=_sample_format,
        contradicts=_depth_against,
    ),
    replace(
        _FORMAT,
        name="broadcast_wave",
        label=Said("bwf-description"),
        choices=(ASKED,),
        hint=Said("bext-chunk-wav"),
        # Only that chunk states when a recording begins.
        figure=lambda examined: "none" if examined.facts.time_reference_frames is None else ASKED,
        contradicts=_broadcast_against,
    ),
    replace(
        _BITRATE,
        name="bit_rate_kbps",
        label=Said("bitrate"),
        unit="kbit/s",
        digits=0,
        slack=0.5,
        least=6,
        most=512,
        hint=Said("one-value-several-variable-bitrate"),
        figure=lambda examined: examined.facts.bit_rate_kbps,
        held=_bit_rate,
        contradicts=_bit_rate_against,
    ),
    replace(
        _BITRATE,
        name="bit_rate_mode",
        label=Said("bitrate-mode"),
        takes=CHOICE,
        choices=BIT_RATE_MODES,
        figure=_mode,
        alike=_is_mode,
        contradicts=lambda asked, encoding: _without_loss(asked, encoding, "bit_rate_mode"),
    ),
    replace(
        _BITRATE,
        name="quality",
        label=Said("encoders-quality"),
        digits=0,
        least=0,
        most=9,
        hint=Said("0-best-9-smallest-bitrate"),
        figure=_quality,
        alike=_is_quality,
        contradicts=_quality_against,
    ),
]
