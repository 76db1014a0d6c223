"""The code as a house: whoever follows imports never comes back to where they were."""

from __future__ import annotations

from graphlib import TopologicalSorter

import grimp


def test_imports_never_go_in_a_circle() -> None:
    """Not inside a layer, nor by an import inside a function: so each module can be imported by itself."""
    graph = grimp.build_graph("openlatch", exclude_type_checking_imports=True, cache_dir=None)
    assert len(graph.modules) > 300
    TopologicalSorter({name: graph.find_modules_directly_imported_by(name) for name in graph.modules}).prepare()
