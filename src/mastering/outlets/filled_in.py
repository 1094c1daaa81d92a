"""What a file for an outlet is to say of itself: its patterns filled in, its picture fitted."""

from collections.abc import Sequence

from mastering.naming.patterns import Facts, read_pattern
from mastering.outlets.outlet import Outlet
from mastering.tagging.inscription import Chapter, Inscription, tag_text
from mastering.tagging.writing import holds

ENCODER = "Sermovox"


def inscription_for(
    outlet: Outlet, facts: Facts, *, container: str, picture: bytes = b"", chapters: Sequence[Chapter] = ()
) -> tuple[Inscription, dict[str, str]]:
    """Fill in what an outlet asks of tags, picture and chapter marks for one file.

    Parameters
    ----------
    facts
        What is known of the section and its production, with line breaks (see `facts_of`).
    picture
        The production's picture as `picture_for` makes it.

    Returns
    -------
    What is to be written, and what each rule about a tag expects to be found. Raises BadTag.
    """
    tags, texts = {}, {}
    for name, pattern in outlet.tag_patterns.items():
        text = tag_text(name, read_pattern(pattern).name(facts))
        texts[f"tag_{name}"] = text
        if text:
            tags[name] = text
    if outlet.chapters:
        texts["chapters"] = "\n".join(chapter.title for chapter in chapters)
    if outlet.names_encoder:
        tags["encoder"] = ENCODER
    return (
        Inscription(
            tags=tags,
            picture=picture if holds(container, "picture") else b"",
            chapters=tuple(chapters) if outlet.chapters else (),
            form=outlet.tag_form,
        ),
        texts,
    )
