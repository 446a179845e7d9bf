"""What a reader of structure raises within itself."""

from __future__ import annotations

from collections.abc import Callable


class UnreadableError(ValueError):
    """A text does not have the structure; at: the character where that shows."""

    def __init__(self, message: str, at: int) -> None:
        super().__init__(message)
        self.message, self.at = message, at


def why_unreadable(read: Callable[[], object], what: str) -> tuple[int, str]:
    """The character at which reading a text stops, and why; what: what the text is not."""
    try:
        read()
    except UnreadableError as error:
        return error.at, f"{what}: {error.message} here"
    return 0, what
