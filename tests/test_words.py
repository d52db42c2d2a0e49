"""The glossary: every word once, and every place that it points to is there and speaks of it."""

from __future__ import annotations

import re
from pathlib import Path

from sources import parsed

ROOT = Path(__file__).parents[1]
# words of a plan or a sentence for which the code has another spelling
SPELT = {
    "in the way": "in_the_way",
    "house file": "house",
    "hand-over sheet": "sheet",
    "agreement": "compar",
    "renew": "next version",
    "rehearsal": "rehearsed",
    "interpreter": "carried out by Yendo itself",
    "blind spot": "BlindSpot",
}


def test_every_word_is_defined_once_and_found_in_its_code() -> None:
    rows = re.findall(
        r"^\| ([a-z -]+) \| ([^|]+) \| `([^`]+)` \|$", (ROOT / "docs" / "words.md").read_text("utf-8"), re.M
    )
    words = [word for word, _, _ in rows]
    assert len(words) > 40 and len(words) == len(set(words))
    for word, _, place in rows:
        text = (ROOT / "src" / "yendo" / place).read_text("utf-8")
        assert SPELT.get(word, word).lower() in text.lower(), (word, place)


def test_a_type_s_name_stands_for_one_thing() -> None:
    """Public classes and named unions, over all modules."""
    import ast
    from collections import defaultdict

    found: dict[str, list[str]] = defaultdict(list)
    for place, tree in parsed().items():
        for node in tree.body:
            names = [node.name] if isinstance(node, ast.ClassDef) else []
            if isinstance(node, ast.Assign):
                names = [target.id for target in node.targets if isinstance(target, ast.Name)]
            for name in names:
                if name[:1].isupper() and not name.isupper():
                    found[name].append(place)
    assert {name: places for name, places in found.items() if len(places) > 1} == {}
