"""Sets of points in a space of finitely many cells, as decision diagrams: exact, and equal sets are one number.

A space has dimensions, each divided into cells; a mask is a set of cells of one dimension, as bits of an integer. A
diagram tests one dimension after the other, and shares equal subtrees (a multi-valued decision diagram). 0 is the empty
set and 1 the whole space.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence

NONE = 0
EVERYTHING = 1
# More than any set of rules that people write; a set that needs more was made to be costly.
MOST_NODES = 200_000

Box = tuple[int, ...]
_Edges = tuple[tuple[int, int], ...]


class TooEntangled(Exception):
    """A set would need more nodes than allowed."""


class Space:
    """The sets over some dimensions, and what is done with them."""

    def __init__(self, sizes: Sequence[int]) -> None:
        """``sizes`` are how many cells each dimension has, at least one."""
        self.sizes = tuple(sizes)
        self.full: Box = tuple((1 << size) - 1 for size in sizes)
        self._end = len(self.sizes)
        self._nodes: list[tuple[int, _Edges]] = [(self._end, ()), (self._end, ())]
        self._numbers: dict[tuple[int, _Edges], int] = {}
        self._both: dict[tuple[int, int], int] = {}
        self._either: dict[tuple[int, int], int] = {}
        self._less: dict[tuple[int, int], int] = {}

    def cells(self, dimension: int, mask: int) -> int:
        """The points whose cell in one dimension is among those of the mask."""
        return self._node(dimension, [(mask, EVERYTHING)])

    def box(self, box: Box) -> int:
        """The points whose cells are among the masks of a box, in every dimension."""
        found = EVERYTHING
        for dimension in range(self._end - 1, -1, -1):
            found = self._node(dimension, [(box[dimension], found)])
        return found

    def both(self, a: int, b: int) -> int:
        """The points that are in both sets."""
        if a == NONE or b == NONE:
            return NONE
        if a in (EVERYTHING, b):
            return b
        if b == EVERYTHING:
            return a
        key = (a, b) if a < b else (b, a)
        if (known := self._both.get(key)) is None:
            dimension, of_a, of_b = self._side_by_side(a, b)
            known = self._both[key] = self._node(
                dimension, [(m & n, self.both(c, d)) for m, c in of_a for n, d in of_b if m & n and c and d]
            )
        return known

    def either(self, a: int, b: int) -> int:
        """The points that are in at least one of two sets."""
        if a == EVERYTHING or b == EVERYTHING:
            return EVERYTHING
        if a in (NONE, b):
            return b
        if b == NONE:
            return a
        key = (a, b) if a < b else (b, a)
        if (known := self._either.get(key)) is None:
            dimension, of_a, of_b = self._side_by_side(a, b)
            known = self._either[key] = self._node(
                dimension, [(m & n, self.either(c, d)) for m, c in of_a for n, d in of_b if m & n]
            )
        return known

    def less(self, a: int, b: int) -> int:
        """The points of the first set that are not in the second."""
        if b == EVERYTHING or a in (NONE, b):
            return NONE
        if b == NONE:
            return a
        if (known := self._less.get((a, b))) is None:
            dimension, of_a, of_b = self._side_by_side(a, b)
            known = self._less[a, b] = self._node(
                dimension, [(m & n, self.less(c, d)) for m, c in of_a for n, d in of_b if m & n and c]
            )
        return known

    def union(self, sets: Iterable[int]) -> int:
        """The points that are in at least one of the sets."""
        found = NONE
        for each in sets:
            found = self.either(found, each)
        return found

    def free(self, a: int, dimension: int) -> int:
        """The points that can be brought into the set by changing their cell in one dimension only."""
        known: dict[int, int] = {}

        def walk(node: int) -> int:
            at, edges = self._nodes[node]
            if at > dimension:
                return node
            if node not in known:
                if at == dimension:
                    known[node] = self.union(child for _, child in edges)
                else:
                    known[node] = self._node(at, [(mask, walk(child)) for mask, child in edges])
            return known[node]

        return walk(a)

    def has_box(self, a: int, box: Box) -> bool:
        """Whether every point of a box is in the set."""
        if a in (NONE, EVERYTHING):
            return a == EVERYTHING
        dimension, edges = self._nodes[a]
        left = box[dimension]
        for mask, child in edges:
            if mask & left and not self.has_box(child, box):
                return False
            left &= ~mask
        return left == 0

    def room(self, a: int, box: Box, dimension: int) -> int:
        """The cells of one dimension with which a box, otherwise as it is, lies in the set."""
        if a in (NONE, EVERYTHING):
            return self.full[dimension] if a == EVERYTHING else 0
        at, edges = self._nodes[a]
        if at > dimension:
            return self.full[dimension] if self.has_box(a, box) else 0
        if at == dimension:
            return sum(mask for mask, child in edges if self.has_box(child, box))
        found, left = self.full[dimension], box[at]
        for mask, child in edges:
            if mask & left:
                found &= self.room(child, box, dimension)
                left &= ~mask
        return found if left == 0 else 0

    def cover(self, a: int, may: int, order: Sequence[int], lean: int | None = None) -> list[Box]:
        """Boxes that contain every point of a set and none outside it and ``may``.

        No box can be left out, and none can be widened. Dimensions that come first in ``order`` are widened first. In
        the dimension that is ``lean`` a box has all cells, or only those with points of the set.
        """
        within, left, found = self.either(a, may), a, list[Box]()
        while left != NONE:
            box = self._first(left)
            for dimension in order:
                wider = box[dimension] | self.room(within, box, dimension)
                box = _with(box, dimension, wider)
            if lean is not None and box[lean] != self.full[lean]:
                box = _with(box, lean, self._needed(a, box, lean))
            found.append(box)
            left = self.less(left, self.box(box))
        return self._without_idle(a, found)

    def _without_idle(self, a: int, boxes: list[Box]) -> list[Box]:
        """Boxes without those whose points the others hold as well."""
        kept = list(boxes)
        for box in boxes:
            others = [other for other in kept if other is not box]
            if self.less(a, self.union(self.box(other) for other in others)) == NONE:
                kept = others
        return kept

    def _needed(self, a: int, box: Box, dimension: int) -> int:
        """The cells of one dimension of a box in which it has points of a set."""
        cells = (1 << cell for cell in range(self.sizes[dimension]) if box[dimension] >> cell & 1)
        return sum(cell for cell in cells if self.both(a, self.box(_with(box, dimension, cell))) != NONE)

    def _first(self, a: int) -> Box:
        """A box that lies in the set."""
        box = list(self.full)
        while a != EVERYTHING:
            dimension, edges = self._nodes[a]
            box[dimension], a = edges[0]
        return tuple(box)

    def _side_by_side(self, a: int, b: int) -> tuple[int, _Edges, _Edges]:
        """The first dimension that one of two sets tests, and the children of both for each of its cells."""
        first, second = self._nodes[a], self._nodes[b]
        dimension = min(first[0], second[0])
        return dimension, self._edges(a, first, dimension), self._edges(b, second, dimension)

    def _edges(self, number: int, node: tuple[int, _Edges], dimension: int) -> _Edges:
        if node[0] != dimension:
            return ((self.full[dimension], number),)
        rest = self.full[dimension]
        for mask, _ in node[1]:
            rest &= ~mask
        return (*node[1], (rest, NONE)) if rest else node[1]

    def _node(self, dimension: int, edges: Iterable[tuple[int, int]]) -> int:
        """The number of a node; edges to the same child become one."""
        to: dict[int, int] = {}
        for mask, child in edges:
            if mask and child != NONE:
                to[child] = to.get(child, 0) | mask
        if not to:
            return NONE
        if len(to) == 1:
            ((child, mask),) = to.items()
            if mask == self.full[dimension]:
                return child
        key = (dimension, tuple(sorted((mask, child) for child, mask in to.items())))
        if (number := self._numbers.get(key)) is None:
            if len(self._nodes) >= MOST_NODES:
                raise TooEntangled
            number = self._numbers[key] = len(self._nodes)
            self._nodes.append(key)
        return number


def _with(box: Box, dimension: int, mask: int) -> Box:
    """A box with another mask in one dimension."""
    return (*box[:dimension], mask, *box[dimension + 1 :])
