"""Times as they are written."""


def clock(seconds: float, digits: int = 0, *, whole: bool = False) -> str:
    """Write a time as h:mm:ss, or m:ss below an hour, with so many digits of a second; `whole` always as hh:mm:ss.

    Without digits a second counts once it is over; with some they are rounded.

    >>> clock(192.4), clock(3723), clock(75.25, 1), clock(59.9996, 3), clock(5, 3, whole=True)
    ('3:12', '1:02:03', '1:15.2', '1:00.000', '00:00:05.000')
    """
    scale = 10**digits
    units = round(seconds * scale) if digits else int(seconds)
    minutes, rest = divmod(units, 60 * scale)
    hours, minutes = divmod(minutes, 60)
    told = f"{rest // scale:02}" + (f".{rest % scale:0{digits}}" if digits else "")
    if whole:
        return f"{hours:02}:{minutes:02}:{told}"
    return f"{hours}:{minutes:02}:{told}" if hours else f"{minutes}:{told}"
