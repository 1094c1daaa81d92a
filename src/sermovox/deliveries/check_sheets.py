"""The check sheets of a delivery, to be kept, as HTML, PDF and JSON; in English, as all that is taken out."""

import json
from dataclasses import asdict

from mastering.outlets import reports
from mastering.outlets.reports import Checked
from mastering.said import ENGLISH, Said
from sermovox.deliveries import manifest
from sermovox.deliveries.bundles import Bundle
from sermovox.scripts.models import tag_of
from sermovox.ui import sheets


def sheets_of(bundle: Bundle) -> list[Checked]:
    """That of the delivery as a whole, where its outlet asks something of one, and its files'; failing ones first."""
    found = [Checked(file.name, file.state, file.findings, remarks=file.remarks) for file in bundle.files]
    whole = bundle.together(manifest.asked_extras(bundle))
    if whole.findings:
        found.insert(0, Checked(Said("all-files-together"), whole.verdict, whole.as_list()))
    return sorted(found, key=lambda sheet: not sheet.failing)


def as_html(bundle: Bundle) -> str:
    """A page that stands by itself."""
    return reports.as_html(bundle.production.title, _intro(bundle), sheets_of(bundle), _language(bundle))


def as_json(bundle: Bundle) -> str:
    """All of it, with the rules it was held against."""
    document = {
        "production": bundle.production.title,
        "outlet": bundle.outlet_key,
        "made_at": bundle.made_at.isoformat(timespec="seconds"),
        "rules": bundle.outlet_toml,
        "sheets": [asdict(sheet) for sheet in sheets_of(bundle)],
    }
    return json.dumps(document, indent=2, ensure_ascii=False)


def as_pdf(bundle: Bundle) -> bytes:
    title = Said("check-sheets", title=bundle.production.title, title_2=bundle.outlet.title)
    return sheets.as_pdf(title, bundle.production.title, _intro(bundle), sheets_of(bundle), _language(bundle))


def _language(bundle: Bundle) -> str:
    """What goes out with the files of a production speaks its language, where that is one of ours."""
    return tag_of(bundle.production.language) or ENGLISH


def _intro(bundle: Bundle) -> str:
    return Said("made-utc-what-fails-stands", title=bundle.outlet.title, time=f"{bundle.made_at:%Y-%m-%d %H:%M}")
