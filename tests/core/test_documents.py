"""What is written about the program is true of it."""

from __future__ import annotations

import importlib.util
import re
from pathlib import Path

import pytest

from drover.core.project.schema import SCHEMA, TABLES
from drover.core.recipe import parse_recipe

ROOT = Path(__file__).resolve().parents[2]


def test_the_recipe_page_is_made_from_the_settings():
    spec = importlib.util.spec_from_file_location("reference", ROOT / "tools" / "reference.py")
    assert spec is not None
    assert spec.loader is not None
    module = importlib.util.module_from_spec(spec)
    spec.loader.exec_module(module)
    assert (ROOT / "docs" / "recipe.md").read_text() == module.page()


@pytest.mark.parametrize("page", ["README.md", "docs/recipe.md"])
def test_recipes_shown_in_the_documents_are_valid(page):
    for block in re.findall(r"```toml\n(.*?)```", (ROOT / page).read_text(), re.DOTALL):
        parse_recipe(block, page)


def test_the_project_page_names_every_table_and_column():
    page = (ROOT / "docs" / "project-file.md").read_text()
    for table in TABLES:
        assert f"`{table}`" in page
    for column in re.findall(r"(\w+) (?:TEXT|REAL|INTEGER|BLOB)", SCHEMA):
        assert f"`{column}`" in page, column


def test_pictures_linked_from_the_readme_are_there():
    links = re.findall(r"\]\((docs/[^)]+)\)", (ROOT / "README.md").read_text())
    assert links
    for link in links:
        assert (ROOT / link).exists(), link
