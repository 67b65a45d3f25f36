"""Every error Drover raises on purpose, on one page.

``DroverError`` is the root: its text is one plain line that says what was wrong, where, and what to do.

- ``FootageError``: a clip that cannot be opened or read.
- ``RecipeError``: a setting that is unknown, of the wrong kind or out of range.
- ``FormatError``: a table or picture file that does not hold what it should.
- ``ProjectError``: a project file that is damaged or not ours.
- ``Cancelled``: the user stopped the work; not a failure.
"""

__all__ = ["Cancelled", "DroverError", "FootageError", "FormatError", "ProjectError", "RecipeError"]


MOST_CHARACTERS = 400


class DroverError(Exception):
    """Root of all expected errors; ``str(error)`` is one line fit to show a user, cut where a file made it long."""

    def __init__(self, line: str = "") -> None:
        plain = "".join(c if c.isprintable() else " " for c in line[: 4 * MOST_CHARACTERS])
        if len(plain) > MOST_CHARACTERS:
            plain = f"{plain[: MOST_CHARACTERS // 2]} … {plain[-MOST_CHARACTERS // 2 :]}"
        super().__init__(plain)


class FootageError(DroverError):
    """A clip that cannot be opened or read."""


class RecipeError(DroverError):
    """A setting that is unknown, of the wrong kind or out of range."""


class FormatError(DroverError):
    """A data file that does not hold what it should."""


class ProjectError(DroverError):
    """A project file that is damaged or not a Drover project."""


class Cancelled(DroverError):
    """The user stopped the work."""
