"""The errors a user may meet. Each carries one sentence that says what is wrong and what to do."""

from __future__ import annotations


class GluvoError(Exception):
    """Anything that is the input's fault or the machine's, told in one sentence."""


class AudioFileError(GluvoError):
    """A file cannot be read as audio that Gluvo can work with."""


class SessionError(GluvoError):
    """A session file cannot be read, or does not make sense."""


class ChangedOutside(SessionError):
    """A session file is not the one that was read; writing would take away what somebody else has written."""


class WriteError(GluvoError):
    """A file could not be written; what was there before is still there."""


class DeviceError(GluvoError):
    """A sound device cannot be opened."""


class Cancelled(GluvoError):
    """The work was stopped because it was asked to, or because newer work replaced it."""
