"""Everything that can go wrong with a file or a spec, named for its cause.

Each error carries the code that programs read and one sentence that a person reads.
Exit codes and HTTP statuses are given elsewhere, in cli and web.
"""


class NiceLevelError(Exception):
    """Root of all errors that the core raises on purpose."""

    code = "error"

    def __init__(self, message: str) -> None:
        super().__init__(message)
        self.message = message


class NotFoundError(NiceLevelError):
    code = "not_found"


class NotAudioError(NiceLevelError):
    code = "not_audio"


class UnsupportedError(NiceLevelError):
    code = "unsupported"


class TruncatedError(NiceLevelError):
    code = "truncated"


class DamagedError(NiceLevelError):
    code = "damaged"


class EmptyError(NiceLevelError):
    code = "empty"


class NonFiniteError(NiceLevelError):
    code = "non_finite"


class TooLargeError(NiceLevelError):
    code = "too_large"


class NoPermissionError(NiceLevelError):
    code = "no_permission"


class OutputExistsError(NiceLevelError):
    code = "output_exists"


class NoSpaceError(NiceLevelError):
    code = "no_space"


class CannotMeetError(NiceLevelError):
    code = "cannot_meet"


class LengthError(NiceLevelError):
    """What is left of it is shorter or longer than what is sensible."""

    code = "length"


class LostError(NiceLevelError):
    """What was kept is not there any more, or not as it was kept."""

    code = "lost"


class NotPreparedError(NiceLevelError):
    """A plan asks for a prepared signal that is still to be made."""

    code = "not_prepared"


class NothingToSendError(NiceLevelError):
    """A package would be empty."""

    code = "nothing_to_send"


class StoppedError(NiceLevelError):
    """Work ended because somebody asked for it, not because anything failed."""

    code = "stopped"


class SpecError(NiceLevelError):
    """A spec that is missing or broken; the message names key and reason on one line. key: as its table has it."""

    code = "spec"

    def __init__(self, message: str, key: str = "") -> None:
        super().__init__(message)
        self.key = key
