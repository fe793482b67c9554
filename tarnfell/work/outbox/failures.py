"""Why a message could not be sent."""


class NotNow(Exception):
    """It may go later; the text says what was in the way."""


class Refused(Exception):
    """It will not go, however often it is tried; the text says why."""
