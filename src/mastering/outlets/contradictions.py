"""What an outlet asks that cannot be had together."""

from mastering.audio.encodings import objections
from mastering.outlets.outlet import CONTENT_KINDS, BadOutlet, Outlet
from mastering.outlets.rules import RULE_KINDS
from mastering.said import Said, together


def refuse_contradictions(outlet: Outlet) -> None:
    """Build the encoding of every file an outlet may ask for. Raises BadOutlet, saying what cannot be."""
    for source_channels in (1, 2):
        for content_kind in CONTENT_KINDS:
            asked = outlet.demands(channels=source_channels, content_kind=content_kind)
            for needed in (kind.name for kind in RULE_KINDS.values() if kind.wanted):
                if needed not in asked:
                    raise BadOutlet(Said("outlet-does-not-state", title=outlet.title, needed=needed))
            channels = outlet.channels_for(source_channels, content_kind=content_kind)
            asked = outlet.demands(channels=channels, content_kind=content_kind)
            encoding = outlet.encoding(channels=channels, content_kind=content_kind)
            kinds = [RULE_KINDS[name] for name in asked]
            told = [kind.contradicts(asked, encoding) for kind in kinds if kind.contradicts]
            if told := [*dict.fromkeys(filter(None, told)), *objections(encoding)]:
                raise BadOutlet(together(told))
