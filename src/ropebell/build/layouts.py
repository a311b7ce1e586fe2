"""Chart layouts of shapes, kept like artifacts."""

from __future__ import annotations

import numpy as np

from ropebell.build.store import Store
from ropebell.charts.layout import Layout


class StoredLayouts:
    """Chart layouts of shapes in a store; see `charts.shapes.LayoutCache`."""

    def __init__(self, store: Store) -> None:
        self._store = store

    def load(self, key: str) -> Layout | None:
        """The layout under `key`, or None."""
        found = self._store.get(f"layout-{key}")
        if found is None:
            return None
        a, meta = found.arrays, found.meta
        try:
            return Layout(np.array(a["chart"]), np.array(a["uv"]), str(meta["origin"]), str(meta["trouble"]))
        except KeyError:
            return None

    def save(self, key: str, layout: Layout) -> None:
        """Keep a layout."""
        meta = {"origin": layout.origin, "trouble": layout.trouble}
        # A level has hundreds of them, so they are not read back.
        with self._store.writing(f"layout-{key}", durable=False) as folder:
            np.save(folder / "chart.npy", layout.chart)
            np.save(folder / "uv.npy", layout.uv)
            self._store.describe(folder, meta)
