"""What is seldom done with a chest: forgetting, repairing, moving, and where it is on a server."""

from dunechest.jobs.chests.changes import new_chest_id as new_chest_id
from dunechest.jobs.chests.changes import set_chest_place as set_chest_place
from dunechest.jobs.chests.chests import forget_library as forget_library
from dunechest.jobs.chests.chests import rebuild_chest as rebuild_chest
from dunechest.jobs.copy.traffic import costs_of as costs_of
from dunechest.jobs.known.servers import remember_server as remember_server
