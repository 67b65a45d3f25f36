"""Tracks in formats that others read: COCO JSON, and a text file of fractions for each image."""

from __future__ import annotations

import json
from pathlib import Path

from drover.core.types import Tracks

__all__ = ["write_box_folder", "write_coco"]

CLASSES = "classes.txt"


def write_coco(path: Path, tracks: Tracks, clip_name: str) -> None:
    """Write COCO JSON: an image for each frame, an annotation for each row with its identity as ``track_id``.

    ``score`` is 0 in frames where an identity coasted unseen. Rows are written one by one, in no memory to speak of.

    Raises
    ------
    OSError
    """
    width, height = tracks.size
    with path.open("w", encoding="utf-8") as file:
        file.write('{"images": [')
        for frame in range(tracks.frame_count):
            image = {"id": frame + 1, "frame_id": frame + 1, "width": width, "height": height,
                     "file_name": f"{clip_name}-{frame + 1:06d}.png"}  # fmt: skip
            file.write((",\n" if frame else "\n") + json.dumps(image))
        kinds = [{"id": k + 1, "name": name} for k, name in enumerate(tracks.class_names)]
        file.write(f'\n], "categories": {json.dumps(kinds)}, "annotations": [')
        rows = zip(
            tracks.frame.tolist(), tracks.identity.tolist(), tracks.class_id.tolist(), tracks.box.tolist(),
            tracks.confidence.tolist(), strict=True,
        )  # fmt: skip
        for number, (frame, identity, kind, (x1, y1, x2, y2), confidence) in enumerate(rows, 1):
            wide, high = round(x2 - x1, 2), round(y2 - y1, 2)
            one = {"id": number, "image_id": frame + 1, "category_id": kind + 1, "track_id": identity,
                   "bbox": [round(x1, 2), round(y1, 2), wide, high], "area": round(wide * high, 2), "iscrowd": 0,
                   "score": round(confidence, 3)}  # fmt: skip
            file.write((",\n" if number > 1 else "\n") + json.dumps(one))
        file.write("\n]}\n")


def write_box_folder(folder: Path, tracks: Tracks, clip_name: str) -> None:
    """Write a text file for each frame, a row for each box: class number, centre and size as fractions.

    ``classes.txt`` names the classes in their order. The format has no place for identities.

    Raises
    ------
    OSError
    """
    folder.mkdir(parents=True, exist_ok=True)
    (folder / CLASSES).write_text("\n".join(tracks.class_names) + "\n", encoding="utf-8")
    width, height = tracks.size
    for frame in range(tracks.frame_count):
        rows = tracks.rows_of(frame)
        lines = [
            f"{kind} {(x1 + x2) / 2 / width:.6f} {(y1 + y2) / 2 / height:.6f} "
            f"{(x2 - x1) / width:.6f} {(y2 - y1) / height:.6f}\n"
            for kind, (x1, y1, x2, y2) in zip(tracks.class_id[rows].tolist(), tracks.box[rows].tolist(), strict=True)
        ]
        (folder / f"{clip_name}-{frame + 1:06d}.txt").write_text("".join(lines), encoding="utf-8")
