"""What forms say: of a treatment, where only what is filled in is changed, and of what is to be heard."""

from collections.abc import Mapping, Sequence

from django import forms

from mastering.said import Said, both, together, within, word
from mastering.shaping.mends import MENDS
from mastering.shaping.treatment import NEEDED, RUMBLE_HZ, Treatment, treatment_of

_USUALLY_HEARD_S, _LONGEST_HEARD_S = 10.0, 30.0
_SWITCHES = ("room_tone", "together")


class HeardForm(forms.Form):
    """A stretch of a section, seconds, before or after its plan."""

    start = forms.FloatField(required=False)
    length = forms.FloatField(required=False)
    side = forms.CharField(required=False)

    def clean_start(self) -> float:
        return self.cleaned_data["start"] or 0.0

    def clean_length(self) -> float:
        asked = self.cleaned_data["length"]
        return _USUALLY_HEARD_S if asked is None else min(_LONGEST_HEARD_S, max(0.1, asked))


def treated(treatment: Treatment, said: Mapping[str, str]) -> Treatment:
    """A treatment with what a form says of it. Raises BadTreatment."""
    values = treatment.as_dict()
    for name in ("mono", "rumble_hz", "hush", "hush_db", "ride"):
        if said.get(name):
            values[name] = said[name].replace(",", ".")
    if said.get("rumble_hz") == NEEDED:
        values |= {"rumble_hz": treatment.rumble_hz or RUMBLE_HZ, "rumble": NEEDED}
    elif said.get("rumble_hz"):
        values.pop("rumble", None)
    for name in _SWITCHES:
        if said.get(name) in ("yes", "no"):
            values[name] = said[name] == "yes"
    chosen = {mend: said.get(f"mend-{mend}") for mend in MENDS}
    if any(chosen.values()):
        values["mends"] = [
            mend for mend, choice in chosen.items() if choice == "yes" or not choice and mend in treatment.mends
        ]
    if said.get("noise") == "quietest":
        values.pop("noise_s", None)
    elif said.get("noise_start") and said.get("noise_end"):
        values["noise_s"] = (said["noise_start"], said["noise_end"])
    return treatment_of(values)


def in_words(pairs: Sequence[tuple[Treatment, Treatment]]) -> str:
    """What is changed by treatments before and after, for the list of changes; nothing where they are alike."""
    changed = {
        name: getattr(after, name)
        for before, after in pairs
        for name in _WORDS
        if getattr(before, name) != getattr(after, name)
    }
    return together((_WORDS[name](value) for name, value in changed.items()), ", ")


_WORDS = {
    "mono": lambda way: Said("mono-2", way=way),
    "rumble": lambda when: Said("rumble-filter-2", when=when),
    "rumble_hz": lambda hz: Said("rumble-filter-hz", hz=hz) if hz else Said("rumble-filter-off"),
    "hush": lambda choice: Said("hush-2", choice=word(choice)),
    "hush_db": lambda most_db: Said("hush-db", most_db=most_db),
    "noise_s": lambda where: Said("noise-learned-from-place") if where else Said("noise-learned-from-quietest-stretch"),
    "ride": lambda choice: Said("ride-2", choice=word(choice)),
    "room_tone": lambda on: Said("head-tail-outlet-asks") if on else Said("head-tail-recorded"),
    "mends": lambda names: both([within(MENDS[name].title) for name in names]) if names else Said("nothing-mended-2"),
    "together": lambda on: Said("one-gain-set") if on else Said("gain-own"),
}
