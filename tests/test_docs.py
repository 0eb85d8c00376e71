"""The docs say what is there."""

from __future__ import annotations

import re
from pathlib import Path

from oakladder.app.actions import keys_page
from oakladder.app.glossary import glossary_page
from oakladder.rung import analyse
from oakladder.rung.service.reference_docs import MOST_BRIEF, brief, functions, language_page
from oakladder.rung.words import STATEMENT_WORDS, STATEMENTS

ROOT = Path(__file__).parent.parent


def test_the_page_of_keys_is_the_one_that_the_actions_give() -> None:
    assert (ROOT / "docs" / "keys.md").read_text(encoding="utf-8") == keys_page()


def test_the_glossary_is_the_one_that_the_terms_give() -> None:
    assert (ROOT / "docs" / "glossary.md").read_text(encoding="utf-8") == glossary_page()


def test_the_page_of_the_language_is_the_one_that_the_tables_give() -> None:
    assert (ROOT / "docs" / "language.md").read_text(encoding="utf-8") == language_page()


def test_every_statement_of_the_grammar_is_described() -> None:
    later = {"else"}
    assert {s.word for s in STATEMENTS} == set(STATEMENT_WORDS) - later


def test_the_brief_is_short_whole_and_its_example_is_sound() -> None:
    text = brief()
    assert len(text) < MOST_BRIEF
    for name in functions():
        assert f"\n{name}(" in text
    example = text.split("EXAMPLE\n")[1].split("\n\n")[0]
    assert analyse(example).problems == ()


def test_scripts_in_the_docs_have_no_errors() -> None:
    for page in [ROOT / "README.md", *(ROOT / "docs").glob("*.md")]:
        for block in re.findall(r"```\n(rung 1\n.*?)```", page.read_text(encoding="utf-8"), re.S):
            assert not [p.message for p in analyse(block).problems if p.is_error], page.name


def test_the_examples_have_no_problems() -> None:
    for path in (ROOT / "docs" / "examples").glob("*.rung"):
        assert analyse(path.read_text(encoding="utf-8")).problems == (), path.name


def test_links_lead_somewhere() -> None:
    for page in [ROOT / "README.md", ROOT / "CONTRIBUTING.md", *(ROOT / "docs").glob("*.md")]:
        for link in re.findall(r"\]\(([^)#]+)\)", page.read_text(encoding="utf-8")):
            assert "://" in link or (page.parent / link).exists(), f"{page.name}: {link}"


def test_the_index_of_the_docs_lists_every_page() -> None:
    docs = ROOT / "docs"
    listed = set(re.findall(r"\]\(([\w-]+\.md)\)", (docs / "README.md").read_text(encoding="utf-8")))
    assert listed == {page.name for page in docs.glob("*.md")} - {"README.md"}
