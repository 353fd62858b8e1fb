"""Open an office's ledger."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from typing import TYPE_CHECKING

from dunechest.errors import OfficeError, OfficeUnreachableError
from dunechest.ledger.office.address import Address, engine_for
from dunechest.names import shown

if TYPE_CHECKING:
    import sqlalchemy as sa


@contextmanager
def office_ledger(address: Address, password: str | None, *, current: bool = True) -> Iterator[sa.Connection]:
    """Open an office's ledger. What is changed is kept if the block ends without an error, or commits it before.

    Parameters
    ----------
    address : Address
        Where it is.
    password : str or None
        None where the server asks for none, as on a socket of this computer.
    current : bool
        Whether its tables must be in the form of this version.

    Raises
    ------
    OfficeUnreachableError
        If the server does not answer, does not prove who it is, or does not know who asks.
    OfficeError
        If the database is none, or in the form of another version.
    """
    import sqlalchemy as sa

    from dunechest.ledger.upgrade import revision_of

    engine = engine_for(address, password)
    try:
        with engine.connect() as connection:
            if current:
                _refuse_other_version(revision_of(connection), address)
            yield connection
            connection.commit()
    except sa.exc.OperationalError as error:
        said = shown(" ".join(str(error.orig).split()))
        if "authentication failed" in said or "not permitted to log in" in said:
            raise OfficeUnreachableError(
                f"The office's ledger ({address.where}) does not let this computer in: the password is wrong, or the computer "
                "was shut out."
            ) from error
        raise OfficeUnreachableError(f"The office's ledger ({address.where}) cannot be reached: {said}") from error
    except sa.exc.DBAPIError as error:
        said = shown(" ".join(str(error.orig).split()))
        raise OfficeError(f"The office's ledger ({address.where}) did not take that: {said}") from error
    finally:
        engine.dispose()


def _refuse_other_version(revision: str, address: Address) -> None:
    from dunechest.ledger.revisions import LAST

    if not revision:
        raise OfficeError(
            f"{address.where} holds no office's ledger, or you may not read it. Whoever looks after the server makes one: "
            "dunechest office set-up ADDRESS"
        )
    if revision != LAST:
        raise OfficeError(
            f"The office's ledger ({address.where}) is in the form of an earlier version. Whoever looks after the server brings "
            "it up to date: dunechest office set-up ADDRESS"
        )
