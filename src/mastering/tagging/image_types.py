"""What every container wants to know of an embedded picture."""

_PNG = b"\x89PNG\r\n\x1a\n"


def is_png(data: bytes) -> bool:
    return data.startswith(_PNG)


def mime_of(data: bytes) -> str:
    return "image/png" if is_png(data) else "image/jpeg"
