"""What is kept between runs of the tests is made by nothing but what it is kept by (tests/shared.py)."""

import ast
from unittest import TestCase

import grimp

from tests.shared import MADE_BY, ROOT


def modules_of(part):
    """The modules of a file or folder of the core, and those of the core that another file imports."""
    if not part.startswith("core"):
        nodes = ast.walk(ast.parse((ROOT / part).read_text()))
        return {n.module for n in nodes if isinstance(n, ast.ImportFrom) and n.module and n.module.startswith("core.")}
    files = sorted((ROOT / part).rglob("*.py")) or [ROOT / part]
    return {".".join(f.relative_to(ROOT).with_suffix("").parts).removesuffix(".__init__") for f in files}


class Kept(TestCase):
    def test_nothing_else_of_the_core_makes_it(self):
        graph = grimp.build_graph("core")
        for kind in ("takes", "songs", "roles"):
            own = set().union(*(modules_of(p) for p in MADE_BY[kind] if p.startswith("core")))
            used = set().union(*(modules_of(p) for p in MADE_BY[kind])) & graph.modules
            needed = used.union(*(graph.find_upstream_modules(m) for m in used)) - {"core"}
            with self.subTest(kind):
                self.assertGreater(len(needed), 10)
                self.assertEqual(needed - own, set())
