"""The terminal's commands, one module each: `add_arguments` says what it takes, `run` does it and gives the status."""

COMMANDS = {
    "measure": "measure recordings",
    "check": "check finished files against an outlet's rules",
    "make": "make finished files for an outlet",
    "plan": "say how recordings would be levelled for an outlet, and make nothing",
    "tags": "compare the tags of files with an outlet's, and write them with --write",
    "pauses": "find the pauses of a recording, or the sections between them",
    "marks": "print the marks inside a recording, or write some into a copy",
    "cut": "cut a recording into WAV files by marks, exact to the sample",
    "add": "bring recordings into a production",
    "productions": "list the productions and their keys",
    "backup": "copy everything into a folder, while everything runs",
    "restore": "fill an empty data folder from a backup",
    "send": "send the files of a delivery to where its outlet receives",
    "reach": "try whether an outlet can be reached",
    "receipts": "list what was sent, and whether it arrived",
    "verify": "read recordings, finished files, pictures and backups against their SHA-256",
    "rename": "rename files by a map (CSV: old name, new name), all or none",
    "outlets": "list the outlets, or write one's rule sheet as TOML",
    "start": "start the web application and its workers",
    "demo": "start the demonstration",
}
"""What each does, by its name, which is that of its module; only the one that is asked for is read."""
