"""Winner trees of the compiled data plane: against looking through all, after every change."""

from __future__ import annotations

from typing import Any

import numba
import numpy as np
import pytest

from libramen.engine.kernel import layout, reach, settings
from libramen.engine.kernel.arrays import _winners, aligned
from libramen.engine.kernel.trees import (
    _replay_fleet,
    _replay_row,
    choose,
    first_due,
    first_fleet,
    least_busy,
    replay_load,
)

pytestmark = pytest.mark.skipif(reach.CHECKED, reason="nothing is compiled here")


@numba.njit
def _of_fleets(world, who, due_s, winner, second_s):  # type: ignore[no-untyped-def]
    w = reach.world_at(world, 0)
    for i in range(len(who)):
        _replay_fleet(w.dues, w.due_fleets, w.fleet_leaves, who[i], due_s[i])
        winner[i], second_s[i] = first_fleet(w)


@numba.njit
def _of_rows(world, who, due_s, busy, chosen, winner, second_s, idlest):  # type: ignore[no-untyped-def]
    f = reach.fleet_at(reach.world_at(world, 0), 0)
    for i in range(len(who)):
        _replay_row(f.tree, f.due_rows, f.leaves, who[i], due_s[i])
        replica = reach.replica_at(f, who[i])
        if chosen[i]:
            choose(f, replica, who[i])
        replay_load(f.tree, f.leaves + who[i], (busy[i] << settings.CHOSEN_BITS) + replica.chosen)
        winner[i], second_s[i] = first_due(f)
        idlest[i] = least_busy(f)


def _changes(n: int, number: int) -> tuple[np.ndarray, np.ndarray]:
    """Whose next completion changes, and to when: some have none, and many are at one instant."""
    rng = np.random.default_rng(number)
    who, due_s = rng.integers(0, n, 400), rng.integers(0, 40, 400).astype(np.float64)
    due_s[rng.random(400) < 0.2] = np.inf
    return who, due_s


def _agree(n: int, who: np.ndarray, due_s: np.ndarray, winner: np.ndarray, second_s: np.ndarray) -> None:
    """What a tree said after each change is what a look at all of them says."""
    now_s = np.full(n, np.inf)
    for i, (one, at_s) in enumerate(zip(who.tolist(), due_s.tolist(), strict=True)):
        now_s[one] = at_s
        assert now_s[winner[i]] == now_s.min()
        others = np.delete(now_s, winner[i])
        assert second_s[i] == (others.min() if n > 1 else np.inf)


@pytest.fixture
def world() -> Any:
    return aligned(1, layout.WORLD)


@pytest.mark.parametrize("n", [1, 2, 5, 8, 50])
def test_the_next_of_all_fleets(n: int, world: Any) -> None:
    leaves = 1 << (n - 1).bit_length()
    dues, due_fleets = np.full(2 * leaves, np.inf), _winners(leaves)
    world["fleet_leaves"], world["dues"] = leaves, reach.address_of(dues)
    world["due_fleets"] = reach.address_of(due_fleets)
    who, due_s = _changes(n, n)
    winner, second_s = np.zeros(len(who), np.int64), np.zeros(len(who))
    _of_fleets(reach.address_of(world), who, due_s, winner, second_s)
    _agree(n, who, due_s, winner, second_s)


@pytest.mark.parametrize("n", [2, 8, 32])
def test_the_next_and_the_idlest_of_all_rows(n: int, world: Any) -> None:
    fleets, tree, due_rows = aligned(1, layout.FLEET), aligned(2 * n, layout.NODE), _winners(n)
    tree["due_s"], tree["load"] = np.inf, np.iinfo(np.int64).max
    numbers = np.random.default_rng(n).permutation(n) + 1
    row_of = np.zeros(n + 1, np.int64)
    row_of[numbers] = np.arange(n)
    replicas, rows = aligned(n, layout.REPLICA), np.zeros(4 * n, np.int32)
    replicas["chosen"] = numbers
    fleets["leaves"], fleets["choices"], fleets["choice_mask"] = n, settings.CHOSEN, len(rows) - 1
    addresses = {"tree": tree, "due_rows": due_rows, "row_of": row_of, "replicas": replicas, "chosen_rows": rows}
    for name, array in addresses.items():
        fleets[name] = reach.address_of(array)
    world["fleets"] = reach.address_of(fleets)
    who, due_s = _changes(n, n)
    rng = np.random.default_rng(n + 1)
    busy, chosen = rng.integers(0, 5, len(who)), rng.random(len(who)) < 0.7
    winner, second_s = np.zeros(len(who), np.int64), np.zeros(len(who))
    idlest = np.zeros(len(who), np.int64)
    _of_rows(reach.address_of(world), who, due_s, busy, chosen, winner, second_s, idlest)
    _agree(n, who, due_s, winner, second_s)
    # Of those that are as busy that which was chosen longest ago; before them all whoever never was, by number.
    seen: dict[int, tuple[int, int, int]] = {}
    last = np.zeros(n, np.int64)
    for i, row in enumerate(who.tolist()):
        if chosen[i]:
            last[row] = i + 1
        seen[row] = (int(busy[i]), int(last[row]), int(numbers[row]))
        assert idlest[i] == min(seen, key=seen.__getitem__)
