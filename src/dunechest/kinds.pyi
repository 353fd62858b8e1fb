"""Kinds of libraries: what is known of them, and kind files of one's own."""

from dunechest.errors import KindFileError as KindFileError
from dunechest.library.draft.compose import draft_kind as draft_kind
from dunechest.library.draft.trying import try_kind as try_kind
from dunechest.library.kinds.load import list_kinds as list_kinds
from dunechest.library.kinds.load import read_kind as read_kind
from dunechest.library.kinds.own import add_kind as add_kind
from dunechest.library.kinds.schema import Kind as Kind
