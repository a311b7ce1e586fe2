"""Settings of the whole suite: no display, caches of their own, no leaked threads."""

from __future__ import annotations

import gc
import os
import sys
import threading
from collections.abc import Iterator
from importlib.abc import MetaPathFinder
from pathlib import Path

import pytest
from hypothesis import settings

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
os.environ.setdefault("PYTEST_QT_API", "pyqt6")
NOT_OF_THE_CORE = ("PyQt6", "moderngl", "pytestqt")


def pytest_addoption(parser: pytest.Parser) -> None:
    parser.addoption(
        "--without-qt", action="store_true", help="test the core alone, where Qt and GL cannot be imported"
    )


class _Blocked(MetaPathFinder):
    """An environment in which some packages are not installed."""

    def find_spec(self, fullname: str, path: object = None, target: object = None) -> None:
        if fullname.partition(".")[0] in NOT_OF_THE_CORE:
            raise ModuleNotFoundError(f"No module named {fullname!r}", name=fullname)


def pytest_configure(config: pytest.Config) -> None:
    if config.getoption("--without-qt"):
        loaded = [name for name in NOT_OF_THE_CORE if name in sys.modules]
        if loaded:
            raise pytest.UsageError(f"{', '.join(loaded)} is loaded already: add -p no:pytest-qt")
        sys.meta_path.insert(0, _Blocked())


def pytest_ignore_collect(collection_path: Path, config: pytest.Config) -> bool | None:
    if config.getoption("--without-qt") and collection_path.name == "window" and collection_path.is_dir():
        return True
    return None


def pytest_collection_finish() -> None:
    """What is imported by now stays: looking through all of it for old windows takes a tenth of a second each time."""
    gc.collect()
    gc.freeze()


# A busy machine is no fault of the code; timings belong in the bench.
settings.register_profile("suite", deadline=None)
settings.load_profile("suite")


@pytest.fixture(autouse=True)
def _own_folders(tmp_path_factory: pytest.TempPathFactory, monkeypatch: pytest.MonkeyPatch) -> None:
    """Tests never see or change the developer's own cache and settings."""
    home = tmp_path_factory.mktemp("home")
    for name in ("XDG_CACHE_HOME", "XDG_CONFIG_HOME", "XDG_DATA_HOME", "XDG_STATE_HOME"):
        folder: Path = home / name.lower()
        folder.mkdir()
        monkeypatch.setenv(name, str(folder))


@pytest.fixture(autouse=True)
def _no_old_windows() -> None:
    """Closed windows of earlier tests hang in cycles; left to pile up, each change of the look would style thousands of
    widgets more."""
    qt, core = sys.modules.get("PyQt6.QtWidgets"), sys.modules.get("PyQt6.QtCore")
    if qt is None or core is None or qt.QApplication.instance() is None or not qt.QApplication.topLevelWidgets():
        return
    gc.collect()
    core.QCoreApplication.sendPostedEvents(None, core.QEvent.Type.DeferredDelete.value)
    gc.collect()


@pytest.fixture(autouse=True)
def _no_leaked_threads() -> Iterator[None]:
    before = set(threading.enumerate())
    yield
    left = [t for t in threading.enumerate() if t not in before and not t.daemon and t.is_alive()]
    for thread in left:
        thread.join(5)
    assert not [t.name for t in left if t.is_alive()]
