"""What a reader of structure raises within itself."""

from __future__ import annotations


class UnreadableError(ValueError):
    """A text does not have the structure; at: the character where that shows."""

    def __init__(self, message: str, at: int) -> None:
        super().__init__(message)
        self.message, self.at = message, at
