"""An office: many computers that tell one ledger what they did, and can ask it what all of them know."""

from dunechest.jobs.office.exchange import Sent, send_to_office
from dunechest.jobs.office.join import Joined, Left, join_office, leave_office
from dunechest.jobs.office.look_after import (
    ComputerAdded,
    OfficeMade,
    add_office_computer,
    remove_office_computer,
    set_up_office,
)
from dunechest.jobs.office.show import Office, OfficeComputer, show_office

__all__ = [
    "ComputerAdded",
    "Joined",
    "Left",
    "Office",
    "OfficeComputer",
    "OfficeMade",
    "Sent",
    "add_office_computer",
    "join_office",
    "leave_office",
    "remove_office_computer",
    "send_to_office",
    "set_up_office",
    "show_office",
]
