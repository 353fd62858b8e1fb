"""What plans and results of all jobs have in common: a digest to compare them by, and a document to keep."""

from __future__ import annotations

import json
from typing import Any

from blake3 import blake3


def digest_of_values(value: Any) -> str:
    """Return the BLAKE3 digest (hexadecimal) of JSON values; the order of keys does not count."""
    return blake3(json.dumps(value, sort_keys=True, ensure_ascii=True).encode()).hexdigest()
