"""What is remembered of places: moved libraries, folders of other computers, folders to ignore."""

from dunechest.jobs.known.homes import list_homes as list_homes
from dunechest.jobs.known.loose import ignore_place as ignore_place
from dunechest.jobs.known.loose import ignored_places as ignored_places
from dunechest.jobs.move.rehome import forget_home as forget_home
from dunechest.jobs.restore.places_map import forget_place as forget_place
from dunechest.jobs.restore.places_map import mapped_places as mapped_places
from dunechest.jobs.restore.places_map import remember_place as remember_place
