"""What is handed over: finished files with what goes beside them, as one archive."""

import hashlib
import re
from collections.abc import Collection, Iterator, Sequence
from typing import BinaryIO
from zipfile import ZIP_STORED

from django.utils import timezone
from zipstream import ZipStream

from mastering.naming.patterns import facts_of, read_pattern
from mastering.outlets.rules.delivery import EXTRAS
from mastering.said import Said
from sermovox.deliveries import manifest
from sermovox.deliveries.bundles import Bundle
from sermovox.deliveries.check_sheets import as_html
from sermovox.deliveries.manifest import CHECK_SHEETS, COVER
from sermovox.deliveries.models import FinishedFile
from sermovox.sources.names import shared_facts

READ_FIRST = "read first.txt"
"""Names what an archive lacks, or what in it is out of date, so that nobody takes it for all there is."""
_CHUNK_BYTES = 1 << 20


def as_zip(bundles: Sequence[Bundle]) -> Iterator[bytes]:
    """The finished files of one outlet or several with what goes beside them, streamed as a ZIP.

    Audio does not shrink, so it is stored. Each outlet of several has a folder of its own. What is missing
    or fails is named in a text beside the files.
    """
    archive = ZipStream(compress_type=ZIP_STORED, sized=False)
    for bundle in bundles:
        top = f"{bundle.outlet_key}/" if len(bundles) > 1 else ""
        folder, wrong = top + folder_of(bundle), list[str]()
        for file in bundle.files:
            # Looked at again, as its tags may have been written anew while others were sent.
            file.refresh_from_db(fields=["stored_as", "sha256"])
            try:
                content = file.path.open("rb")
            except OSError:
                wrong.append(Said("file-gone", name=file.name, title=file.title))
                continue
            archive.add(_proven(file, content, wrong), folder + file.name)
            yield from archive.all_files()
        for name, extra in extras_of(bundle).items():
            archive.add(extra, top + name)
        if to_be_known := [*bundle.to_be_known, *wrong]:
            archive.add("".join(f"{line}\n" for line in to_be_known).encode(), top + READ_FIRST)
        yield from archive.all_files()
    yield from archive.finalize()


def _proven(file: FinishedFile, content: BinaryIO, wrong: list[str]) -> Iterator[bytes]:
    """The bytes of a finished file; adds to `wrong` where they are not those that were checked."""
    digest = hashlib.sha256()
    with content:
        while chunk := content.read(_CHUNK_BYTES):
            digest.update(chunk)
            yield chunk
    if digest.hexdigest() != file.sha256:
        wrong.append(Said("damaged-not-file-checked-make", name=file.name, title=file.title))


def folder_of(bundle: Bundle) -> str:
    """The folder its files lie in, with a slash at the end; empty for none."""
    pattern = bundle.outlet.folder
    if not pattern:
        return ""
    date = timezone.localdate(bundle.made_at).isoformat()
    facts = shared_facts(bundle.production, bundle.outlet, len(bundle.files), date)
    name = read_pattern(pattern).name(facts_of([facts])[0])
    # One plain folder: nothing that climbs out of the archive.
    safe = re.sub(r"[^\w .-]", "-", name).strip(". ")
    return f"{safe}/" if safe else ""


def extras_of(bundle: Bundle, asked: Collection[str] | None = None) -> dict[str, bytes]:
    """The files beside the finished ones, by name: those `asked`, as far as there are any; without, both manifests
    and what else the outlet asks.
    """
    if asked is None:
        asked = {
            "manifest.csv",
            "manifest.json",
            *bundle.outlet.extra_files,
            *((COVER,) if bundle.outlet.artwork else ()),
        }
    made: dict[str, bytes] = {}
    for name in (each for each in EXTRAS if each in asked):
        made |= _MADE[name](bundle)
    return {name: content for name, content in made.items() if content}


_MADE = manifest.MADE | {CHECK_SHEETS: lambda bundle: {CHECK_SHEETS: as_html(bundle).encode()}}
