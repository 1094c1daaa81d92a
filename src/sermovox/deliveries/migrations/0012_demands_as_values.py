"""What files were made by is kept as what was demanded, no longer as the words for it: these may be put better without
any file being another.
"""

import hashlib
import json

from django.db import migrations

_MADE = ["passes", "passes with a remark", "fails"]


def digest(values):
    return hashlib.sha256(json.dumps(values, sort_keys=True).encode()).hexdigest()


def carry_over(apps, schema_editor):
    from mastering.outlets.outlet import BadOutlet
    from mastering.outlets.rulesheets import parse

    files, outlets = apps.get_model("deliveries", "FinishedFile").objects, {}
    for file in files.filter(state__in=_MADE).select_related("delivery").iterator(chunk_size=200):
        if not {"rules", "tag rules"} & set(file.follows):
            continue
        toml = file.delivery.outlet_toml
        if toml not in outlets:
            try:
                outlets[toml] = parse(toml)
            except BadOutlet:
                outlets[toml] = None
        follows, outlet = dict(file.follows), outlets[toml]
        follows.pop("rules", None)
        tag_rules = follows.pop("tag rules", None)
        if outlet:
            # The sheet that its run kept is what it was made by.
            channels = file.figures.get("channels") or 1
            follows["demands"] = outlet.demanded(channels=channels, content_kind=file.content_kind)
            # Tags may have been written by another since; what cannot be told any more is not compared.
            asked = [outlet.tag_patterns, outlet.tag_form, outlet.names_encoder, outlet.artwork]
            if tag_rules == digest(repr(asked)):
                follows["tag demands"] = outlet.demanded_of_tags
        files.filter(pk=file.pk).update(follows=follows, fingerprint=digest(follows))


class Migration(migrations.Migration):
    dependencies = [("deliveries", "0011_kept_safe")]

    operations = [migrations.RunPython(carry_over, migrations.RunPython.noop)]
