"""The one family of errors that a person at the screen can act on."""


class PureSignalError(Exception):
    """A problem the person at the screen can act on. Anything else is a bug.

    what    what is wrong, one sentence part without a full stop
    where   the file, track, field or port it is about; empty if `what` says it
    remedy  what to do about it, a full sentence
    """

    def __init__(self, what: str, where: str, remedy: str):
        super().__init__(what, where, remedy)

    def __str__(self) -> str:
        what, where, remedy = self.args
        what, where = shortened(str(what), MOST_WHAT), shortened(str(where), MOST_WHERE)
        return f"{what} ({where}). {remedy}" if where else f"{what}. {remedy}"


MOST_WHAT, MOST_WHERE = 400, 200
"""Characters that an error repeats: a name or value from outside may be as long as a book."""


def shortened(text: str, most: int) -> str:
    """A text of at most so many characters; what is left out of its middle is marked."""
    if len(text) <= most:
        return text
    half = (most - 1) // 2
    return f"{text[:half]}…{text[-half:]}"


class BadFileError(PureSignalError):
    """A file that cannot be read for what it should be."""


class FileAccessError(PureSignalError):
    """The system refused to read or write a file: missing, not permitted, disk full."""


class NoteMapError(PureSignalError, ValueError):
    """A note map that contradicts itself or the format."""


class SettingsError(PureSignalError, ValueError):
    """A setting outside its range, or unknown."""


class ProgramFaultError(PureSignalError):
    """A fault of the program itself while it worked on one file: the others go on."""


class StoppedError(Exception):
    """It was cancelled; nothing is left of what was being made."""
