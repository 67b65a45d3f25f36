"""Kinds of files, as file dialogs list them."""

from __future__ import annotations

from drover.core.batch.plan import VIDEO_ENDINGS

__all__ = ["VIDEO_FILTER"]

VIDEO_FILTER = f"Video ({' '.join(f'*{ending}' for ending in sorted(VIDEO_ENDINGS))});;All files (*)"
