"""The command line, run in the test's own process."""

from __future__ import annotations

import functools
import json
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import jsonschema

from dunechest.model.schemas import schema_of


@dataclass(frozen=True)
class Ran:
    status: int
    out: str
    err: str

    @property
    def json(self) -> Any:
        """The document; any that a test looks at is held against its published schema first."""
        document = json.loads(self.out)
        valid(document)
        assert document["exit_status"] == self.status
        return document

    @property
    def library(self) -> Any:
        """The one library of the document."""
        (library,) = self.json["libraries"]
        return library


def valid(document: Any) -> None:
    """Hold a document against its schema, moments and all."""
    name = document["schema"].split("/")[1]
    _validator(name).validate(document)


@functools.cache
def _validator(name: str) -> Any:
    checker = jsonschema.Draft202012Validator.FORMAT_CHECKER
    jsonschema.Draft202012Validator.check_schema(schema_of(name))
    return jsonschema.Draft202012Validator(schema_of(name), format_checker=checker)


Command = Callable[..., Ran]
