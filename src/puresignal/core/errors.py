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
        return f"{what} ({where}). {remedy}" if where else f"{what}. {remedy}"


class BadFileError(PureSignalError):
    """A file that cannot be read for what it should be."""


class FileAccessError(PureSignalError):
    """The system refused to read or write a file: missing, not permitted, disk full."""


class NoteMapError(PureSignalError, ValueError):
    """A note map that contradicts itself or the format."""


class SettingsError(PureSignalError, ValueError):
    """A setting outside its range, or unknown."""
