"""Write docs/recipe.md from the settings themselves: python tools/reference.py [FILE]."""

from __future__ import annotations

import sys
from pathlib import Path

from drover.core.recipe import ClassLimit, FollowedSettings, LineSettings, Recipe, ZoneSettings, is_auto
from drover.core.setting_info import setting_info, settings_of
from drover.core.settings.send import ReceiverSettings

INTRO = """# The recipe

A recipe is one TOML file with all settings. It may be partial: what it leaves out keeps its default. Comments
stay when Drover writes it. This page is made from the program's own list of settings by
`.venv/bin/python tools/reference.py`.
"""

CLASSES = """
## [[detect.boxes.class_limit]]

One table a class of imported boxes that has limits of its own.

```toml
[[detect.boxes.class_limit]]
name = "ewe"
least_confidence = 0.4
```

| key | what it is |
| --- | --- |
"""

LINES = """
## [[count.line]]

One table a counting line. Points are fractions of the frame's width and height, so a recipe fits any
resolution. A line has a direction, from its first point to its last. Forward is from the side where
`(x2-x1)(y-y1) - (y2-y1)(x-x1)` is negative to the side where it is positive: on screen, seen along the line,
from left to right.

```toml
[[count.line]]
name = "Gap"
points = [[0.50, 0.67], [0.49, 0.37]]   # fractions of width and height
reference = "foot"
```

| key | what it is |
| --- | --- |
"""


ZONES = """
## [[count.zone]]

One table a zone: a named polygon in fractions of the frame, whose sides do not cross.

```toml
[[count.zone]]
name = "Yard"
points = [[0.10, 0.40], [0.45, 0.40], [0.45, 0.75], [0.10, 0.75]]
longest_stay = 60.0   # s, then an alarm
```

| key | what it is |
| --- | --- |
"""


RECEIVERS = """
## [[send.receiver]]

One table a receiver of a live run's events. Each event is a POST of its own with a JSON body and an `id`; what is
not taken (an answer other than 2xx, or none) stays in `events.jsonl` and is tried again, in order, with pauses up to
half a minute. A redirect is not followed. The access token, if the receiver needs one, is sent as
`Authorization: Bearer`; it never stands in the recipe itself.

```toml
[[send.receiver]]
name = "Office"
url = "https://office.example/events"
what = ["crossings", "totals"]
password_env = "OFFICE_TOKEN"
```

| key | what it is |
| --- | --- |
"""

THINGS = """
## [[follow.thing]]

One table a thing that is followed by its look, and becomes an identity of its own. It is marked by a box at a moment of
the clip, or given as a picture, a file, and then looked for.

```toml
[[follow.thing]]
name = "Sign"
time = 2.4
box = [0.32, 0.32, 0.54, 0.65]   # fractions of width and height
```

| key | what it is |
| --- | --- |
"""


def page() -> str:
    """The whole page."""
    parts, section = [INTRO], ""
    for path, model, name in settings_of(Recipe):
        folder = path.rpartition(".")[0]
        if path in ("count.line", "count.zone", "detect.boxes.class_limit", "send.receiver", "follow.thing"):
            continue
        field = model.model_fields[name]
        if folder != section:
            section = folder
            words = (model.__doc__ or "").strip().splitlines()[0]
            parts.append(
                f"\n## [{folder}]\n\n{words}\n\n| key | default | range | what it does |\n| --- | --- | --- | --- |\n"
            )
        if "unit" in (field.json_schema_extra or {}):
            info = setting_info(path)
            unit = "" if info.unit == "fraction" else f" {info.unit}"
            default = '"auto"' if is_auto(info.default) else f"{info.default:g}{unit}"
            auto = ', or "auto"' if info.auto else ""
            parts.append(f"| `{name}` | {default} | {info.low:g} to {info.high:g}{unit}{auto} | {info.help} |\n")
        else:
            parts.append(f'| `{name}` | "{field.default}" | | {field.description} |\n')
    parts.append(CLASSES)
    parts += [f"| `{name}` | {field.description} |\n" for name, field in ClassLimit.model_fields.items()]
    parts.append(LINES)
    parts += [f"| `{name}` | {field.description} |\n" for name, field in LineSettings.model_fields.items()]
    parts.append(ZONES)
    parts += [f"| `{name}` | {field.description} |\n" for name, field in ZoneSettings.model_fields.items()]
    parts.append(RECEIVERS)
    parts += [f"| `{name}` | {field.description} |\n" for name, field in ReceiverSettings.model_fields.items()]
    parts.append(THINGS)
    parts += [f"| `{name}` | {field.description} |\n" for name, field in FollowedSettings.model_fields.items()]
    return "".join(parts)


if __name__ == "__main__":
    target = Path(sys.argv[1] if len(sys.argv) > 1 else "docs/recipe.md")
    target.write_text(page(), encoding="utf-8")
    print(f"written to {target}")
