"""What a form says of a treatment: only what is filled in is changed."""

from collections.abc import Mapping

from mastering.shaping.treatment import Treatment, treatment_of

_SWITCHES = ("room_tone", "together")


def treated(treatment: Treatment, said: Mapping[str, str]) -> Treatment:
    """A treatment with what a form says of it. Raises BadTreatment."""
    values = treatment.as_dict()
    for name in ("rumble_hz", "hush", "hush_db", "ride"):
        if said.get(name):
            values[name] = said[name].replace(",", ".")
    for name in _SWITCHES:
        if said.get(name) in ("yes", "no"):
            values[name] = said[name] == "yes"
    if said.get("noise") == "quietest":
        values.pop("noise_s", None)
    elif said.get("noise_start") and said.get("noise_end"):
        values["noise_s"] = (said["noise_start"], said["noise_end"])
    return treatment_of(values)


def in_words(said: Mapping[str, str]) -> str:
    """What a form changes, for the list of changes."""
    told = []
    if rumble := said.get("rumble_hz"):
        told.append("rumble filter off" if rumble == "0" else f"rumble filter at {rumble[:8]} Hz")
    told += [f"{name} {said[name][:12]}" for name in ("hush", "ride") if said.get(name)]
    if said.get("hush_db"):
        told.append(f"hush of {said['hush_db'][:8]} dB")
    if said.get("noise") or said.get("noise_start"):
        told.append("where noise is learned")
    told += [
        {"room_tone": "room tone", "together": "one gain together"}[name] + (" on" if said[name] == "yes" else " off")
        for name in _SWITCHES
        if said.get(name) in ("yes", "no")
    ]
    return ", ".join(told)
