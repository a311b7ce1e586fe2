"""Names of things by their content."""

from __future__ import annotations

import hashlib
import json
from typing import Any

import numpy as np


def digest_of(*parts: Any) -> str:
    """32 hex digits that name an artifact by what it depends on: arrays by shape, type and bytes, the rest as JSON."""
    digest = hashlib.sha256()
    for part in parts:
        if isinstance(part, np.ndarray):
            digest.update(f"{part.dtype.str}{part.shape}".encode())
            digest.update(np.ascontiguousarray(part).data)
        else:
            digest.update(json.dumps(part, sort_keys=True).encode())
        digest.update(b"\x00")
    return digest.hexdigest()[:32]
