"""Several computers: an office, and the computers that wrote in one's chests."""

from dunechest.jobs.known.computers import list_computers as list_computers
from dunechest.jobs.known.computers import say_computer as say_computer
from dunechest.jobs.office.exchange import send_to_office as send_to_office
from dunechest.jobs.office.join import join_office as join_office
from dunechest.jobs.office.join import leave_office as leave_office
from dunechest.jobs.office.look_after import add_office_computer as add_office_computer
from dunechest.jobs.office.look_after import remove_office_computer as remove_office_computer
from dunechest.jobs.office.look_after import set_up_office as set_up_office
from dunechest.jobs.office.show import show_office as show_office
