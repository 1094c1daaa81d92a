"""The demonstration: people, titles and texts that exist nowhere else, and the faults their recordings have."""

from itertools import pairwise
from pathlib import Path

from mastering.outlets.ways import FETCHED, PLAIN, PLAIN_NAMES
from sermovox.standins.known import ARCHIVE, BUCKET, MAILBOX, PLAYER, SHARE, STATION, STORE

FOLDER = Path(__file__).parent / "recordings"
NARRATOR = ("Maren", "Askew")

BOOK = {
    "title": "The Lamp and the Barometer",
    "author": "Ottoline Farrow",
    "narrator": "Maren Askew",
    "year": 2026,
    "language": "English",
}

PROGRAMME = {
    "title": "Harbour Hour",
    "author": "The volunteers of Skerrow Sound",
    "narrator": "Tobin Rask",
    "year": 2026,
    "language": "English",
}

# (file, role, number, title, content kind, voice, text). A bar in a text is a pause for breath.
BOOK_SECTIONS = [
    (
        "opening-credits.flac",
        "opening credits",
        None,
        "Opening credits",
        "speech",
        "slt",
        "The Lamp and the Barometer. | Written by Ottoline Farrow. | Read by Maren Askew.",
    ),
    (
        "chapter-1.flac",
        "chapter",
        1,
        "Oil, Wick and Weather",
        "speech",
        "slt",
        "Chapter one. Oil, wick and weather. | Before the sun was down on Gannet Stack, the keeper had trimmed "
        "four wicks and written one line in the ledger. | Wind south by east. Sea moderate. Glass falling. | She "
        "trusted the glass more than the sky, because the sky had lied to her twice, and the glass only once.",
    ),
    (
        "chapter-2.flac",
        "chapter",
        2,
        "What the Barometer Knew",
        "speech",
        "slt",
        "Chapter two. What the barometer knew. | A column of mercury has no opinions. | It stands higher when the "
        "air is heavy, and lower when the air is light, and it does not care whose boats are out. | That evening "
        "it stood lower than anyone on the island could remember.",
    ),
    (
        "chapter-3.flac",
        "chapter",
        3,
        "Fog Signals",
        "speech",
        "slt",
        "Chapter three. Fog sig, | Chapter three. Fog signals. | When the lamp could not be seen, it had to be "
        "heard. | One long note and two short ones, every ninety seconds, until the far shore came back. | The "
        "horn took six buckets of coal an hour, and two people to feed it.",
    ),
    (
        "chapter-4.flac",
        "chapter",
        4,
        "The Keeper's Ledger",
        "speech",
        "slt",
        "Chapter four. The keeper's ledger. | Nobody asked for the book when the light was made to turn by "
        "itself. | It lay on the sill for eleven winters, open at the same page. | Glass rising, the last line "
        "said. | All boats home.",
    ),
    (
        "closing-credits.flac",
        "closing credits",
        None,
        "Closing credits",
        "speech",
        "slt",
        "This has been The Lamp and the Barometer, | by Ottoline Farrow. | Thank you for listening.",
    ),
]

PROGRAMME_SECTIONS = [
    ("opening-tune.flac", "segment", 1, "Opening tune", "music", None, ""),
    (
        "tides-and-talk.flac",
        "segment",
        2,
        "Tides and talk",
        "speech",
        "rms",
        "Good morning from Skerrow Sound. | High water at the harbour is at seven minutes past nine, and again "
        "just before ten tonight. | The ferry runs as usual. The knitting circle does not, because the hall has "
        "no heating until Thursday.",
    ),
    (
        "sign-off.flac",
        "segment",
        3,
        "Sign-off",
        "speech",
        "rms",
        "That was Harbour Hour. | I am Tobin Rask. | Mind the step on your way out.",
    ),
]

PLACES = {
    "radio-playout": (STATION, "ftp", {"security": PLAIN, "folder": "incoming/{production|plain|join:-}"}),
    "audiobook-retail": (SHARE, "webdav", {"security": PLAIN, "share": "dav", "folder": "{author|plain}"}),
    "volunteer-archive": (ARCHIVE, "sftp", {"folder": "new/{production|plain|join:_}", "proof": FETCHED}),
    "single-file-audiobook": (STORE, "objects", {"security": PLAIN, "bucket": BUCKET, "folder": "books"}),
    "podcast-host": (
        MAILBOX,
        "mail",
        {"security": PLAIN, "sender": "Maren Askew <maren@askew.example>", "to": "desk@lantern.example"},
    ),
    "pocket-device": (PLAYER, "folder", {"folder": "{production|plain|join:-}", "names": PLAIN_NAMES, "room": "40"}),
}
"""Where the demonstration's outlets receive: stand-ins on this machine, with what is stated of the way to each."""

LINES = {
    "title": "The Toll at Wether Bridge",
    "author": "Hollin and Pike",
    "narrator": "Maren Askew",
    "year": 2026,
    "language": "English",
    "genre": "Game",
    "code": "WB",
    "contact": "lines@hollin-and-pike.example",
}

# A client's script: file name and line. The takes below are not paired with it yet, and one line has no take.
LINE_SCRIPT = """\
wb_toll_010;Who goes over the bridge at this hour?
wb_toll_020;The toll is two coppers, or one true story.
wb_toll_030;I have heard that one. Tell me another.
wb_toll_040;Mind the third plank. It minds nobody.
wb_toll_050;Go on, then, before the river changes its mind.
wb_toll_060;Nobody crosses twice for the same story.
"""

LINE_TAKES = [
    ("toll 10 take 2.flac", "awb", "Who goes over the bridge at this hour?"),
    ("toll 20 take 1.flac", "awb", "The toll is two coppers, or one true story."),
    ("toll 30 take 4.flac", "awb", "I have heard that one. Tell me another."),
    ("toll 40 take 1.flac", "awb", "Mind the third plank. It minds nobody."),
    ("toll 60 take 3.flac", "awb", "Nobody crosses twice for the same story."),
    ("bridge ambience.flac", None, ""),
]

TALES = {
    "title": "Five Small Departures",
    "author": "Ottoline Farrow",
    "narrator": "Maren Askew",
    "year": 2026,
    "language": "English",
}

TALE_TITLES = ["The Ferry That Waited", "A Suitcase of Stones", "Last Tram but One", "The Weather Clerk", "Low Water"]

# All tales in one go, as they were read: two bars are the pause between tales. One sentence is begun wrongly, one is
# read twice, and somebody comes to the door.
TALES_TAKE = (
    "all five tales, one take.flac",
    "slt",
    "The ferry that waited. | Every evening at six the ferry blew its horn, and every evening the baker came running. "
    "| One day he walked. | The captain, who had never asked his name, kept the ropes on for eleven minutes. || "
    "A suitcase of stones. | She had packed a stone from every, | She had packed a stone from every beach she had been "
    "happy on. | The porter lifted it, said nothing, and charged her for two. || "
    "Last tram but one. | Nobody takes the last tram, because nobody believes in it. | "
    "The last but one is full of people who are almost home. | "
    "The last but one is full of people who are almost home. || "
    "The weather clerk. | He wrote down the rain for thirty years. ||| On the day he retired it was dry, and he did "
    "not know where to put it. || "
    "Low water. | When the sea went out it left a door lying on the sand, | with its key still in it, "
    "| on the far side.",
)

# The text of it. Two mistakes were made in reading: one sentence was left out, and one does not end as it should.
TALES_TEXT = """\
# The Ferry That Waited
Every evening at six the ferry blew its horn, and every evening the baker came running. One day he walked. Nobody on \
deck said a word about it. The captain, who had never asked his name, kept the ropes on for eleven minutes.

# A Suitcase of Stones
She had packed a stone from every beach she had been happy on. The porter lifted it, said nothing, and carried it all \
the way to the lighthouse.

# Last Tram but One
Nobody takes the last tram, because nobody believes in it. The last but one is full of people who are almost home.

# The Weather Clerk
He wrote down the rain for thirty years. On the day he retired it was dry, and he did not know where to put it.

# Low Water
When the sea went out it left a door lying on the sand, with its key still in it, on the far side.
"""


def text_of(spoken: str) -> str:
    """What stands in the script of a take: its last words where a phrase was begun twice."""
    phrases = [phrase.strip() for phrase in spoken.split("|") if phrase.strip()]
    again = [after.startswith(phrase.rstrip(",")) for phrase, after in pairwise(phrases)]
    return " ".join(phrase for phrase, is_begun in zip(phrases, [*again, False], strict=False) if not is_begun)


# What happens once the book's files are made: one is made again, one is treated otherwise, one gets another title.
MADE_AGAIN, TREATED = "Fog Signals", "Closing credits"
RETITLED = ("The Keeper's Ledger", "The Keeper's Last Ledger")

BOOK_OUTLETS = ("audiobook-retail", "single-file-audiobook", "volunteer-archive", "own-masters")
PROGRAMME_OUTLETS = ("radio-playout", "broadcast", "podcast-host", "internet-station")
LINE_OUTLETS = ("line-set", "booked-job", "voice-audition")
