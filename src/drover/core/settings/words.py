"""What is counted, in the words of whoever counts it."""

from __future__ import annotations

from pydantic import Field

from drover.core.settings.base import Settings

__all__ = ["ClassWords", "WordSettings"]

MOST_WORD = 40


class ClassWords(Settings):
    """One class by name."""

    name: str = Field(min_length=1, max_length=80, description="The class as the detections name it.")
    one: str = Field(min_length=1, max_length=MOST_WORD, description="What one of it is called.")
    many: str = Field(min_length=1, max_length=MOST_WORD, description="What several are called.")


class WordSettings(Settings):
    """What the window, the tables and the pictures call what is counted; no result depends on it."""

    one: str = Field(default="object", min_length=1, max_length=MOST_WORD, description="What one is called.")
    many: str = Field(default="objects", min_length=1, max_length=MOST_WORD, description="What several are called.")
    class_words: tuple[ClassWords, ...] = Field(default=(), description="What single classes are called.")

    def several(self, class_name: str) -> str:
        """What several of a class are called; its own name where nothing was said."""
        for words in self.class_words:
            if words.name == class_name:
                return words.many
        return class_name

    def filled(self, template: str) -> str:
        """A text with ``{one}`` and ``{many}`` put in; ``{an}`` is the article of one."""
        article = "an" if self.one[:1].lower() in "aeiou" else "a"
        return template.replace("{one}", self.one).replace("{many}", self.many).replace("{an}", article)
