"""Boxes from COCO JSON."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

from drover.core.errors import FormatError
from drover.core.formats.box_table import BoxTable
from drover.core.names import natural_order
from drover.core.types import DEFAULT_CLASS

__all__ = ["read_coco"]


def read_coco(path: Path, rows: BoxTable) -> None:
    """Take in the boxes of a COCO JSON file; FormatError where it is none."""
    try:
        data = json.loads(path.read_text(encoding="utf-8-sig"))
    except (ValueError, RecursionError) as error:
        raise FormatError(f"{path}: is not valid JSON ({str(error)[:120]})") from error
    if isinstance(data, dict):
        items, names, frames = data.get("annotations"), _coco_names(data), _coco_frames(data)
    else:
        items, names, frames = data, {}, None
    if not isinstance(items, list):
        raise FormatError(f"{path}: lacks 'annotations'; expected COCO JSON or a list of results")
    for number, item in enumerate(items, 1):
        rows.look_up()
        _read_coco_item(f"entry {number}", item, names, frames, rows)


def _coco_names(data: dict[str, Any]) -> dict[Any, str]:
    kinds = data.get("categories")
    entries = kinds if isinstance(kinds, list) else []
    return {_plain(k.get("id")): str(k.get("name", k.get("id"))) for k in entries if isinstance(k, dict)}


def _coco_frames(data: dict[str, Any]) -> dict[Any, int] | None:
    """Frame of each image: its own frame number where it has one, else its place in order of file name."""
    listed = data.get("images")
    images = [image for image in listed if isinstance(image, dict)] if isinstance(listed, list) else []
    if not images:
        return None
    if all(isinstance(image.get("frame_id"), int) for image in images):
        first = min(image["frame_id"] for image in images)
        return {_plain(image.get("id")): image["frame_id"] - min(first, 1) for image in images}
    ordered = sorted(images, key=lambda image: natural_order(str(image.get("file_name", image.get("id")))))
    return {_plain(image.get("id")): place for place, image in enumerate(ordered)}


def _plain(value: Any) -> Any:
    return value if isinstance(value, (int, str)) else str(value)


def _read_coco_item(
    where: str, item: Any, names: dict[Any, str], frames: dict[Any, int] | None, rows: BoxTable
) -> None:
    if not isinstance(item, dict):
        rows.fault(where, "is not an object")
        return
    image, bbox, kind = _plain(item.get("image_id")), item.get("bbox"), _plain(item.get("category_id"))
    if not (isinstance(bbox, list) and len(bbox) == 4 and all(_is_number(v) for v in bbox)):
        rows.fault(where, "bbox must be four numbers: left, top, width, height")
        return
    if frames is None:
        frame = image - 1 if isinstance(image, int) else None
    else:
        frame = frames.get(image)
    if frame is None:
        rows.fault(where, "belongs to no known image", str(image)[:40])
        return
    if names and kind not in names:
        rows.fault(where, "has a class that is not listed", str(kind)[:40])
        return
    score = item.get("score", 1.0)
    left, top, width, height = (float(v) for v in bbox)
    name = names.get(kind, str(kind) if item.get("category_id") is not None else DEFAULT_CLASS)
    rows.add(where, frame, (left, top, left + width, top + height), float(score) if _is_number(score) else 1.0, name)


def _is_number(value: Any) -> bool:
    return isinstance(value, (int, float)) and not isinstance(value, bool) and abs(value) < 1e300
