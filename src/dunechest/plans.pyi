"""Plans that are saved, and what was interrupted."""

from dunechest.jobs.move.rehome import plan_rehome_back as plan_rehome_back
from dunechest.jobs.move.rehome import plan_rehome_parts as plan_rehome_parts
from dunechest.jobs.restore.planning.saved_plan import plan_as_saved as plan_as_saved
from dunechest.jobs.restore.planning.saved_plan import saved_plan as saved_plan
from dunechest.jobs.restore.planning.several import restorable as restorable
from dunechest.jobs.undo.interrupted import cut_off as cut_off
from dunechest.jobs.undo.interrupted import recover as recover
