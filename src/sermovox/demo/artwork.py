"""The picture on the demonstration's book: a lamp over the sea, drawn here from plain shapes."""

import io

from PIL import Image, ImageDraw

_SIDE_PX = 1600
_NIGHT, _SEA, _STONE, _LAMP = "#1f2a38", "#2f4a57", "#e6ddc8", "#f2c14e"


def book_cover() -> bytes:
    """A square PNG."""
    picture = Image.new("RGB", (_SIDE_PX, _SIDE_PX), _NIGHT)
    pen = ImageDraw.Draw(picture)
    pen.polygon([(800, 470), (0, 250), (0, 640)], fill="#43505c")
    pen.rectangle([0, 1150, _SIDE_PX, _SIDE_PX], fill=_SEA)
    for row in range(5):
        pen.line([(x, 1210 + 80 * row + 16 * ((x // 80) % 2)) for x in range(0, _SIDE_PX + 80, 80)], _STONE, 4)
    pen.polygon([(690, 1230), (740, 560), (860, 560), (910, 1230)], fill=_STONE)
    pen.rectangle([730, 400, 870, 560], fill=_LAMP)
    pen.polygon([(700, 400), (800, 300), (900, 400)], fill=_STONE)
    kept = io.BytesIO()
    picture.save(kept, "PNG")
    return kept.getvalue()
