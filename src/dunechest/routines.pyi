"""What runs by itself."""

from dunechest.jobs.routine import list_routines as list_routines
from dunechest.jobs.routine import run_due as run_due
from dunechest.jobs.routine import run_routine as run_routine
from dunechest.jobs.routine.file import routine_log as routine_log
from dunechest.jobs.routine.install import add_routine as add_routine
from dunechest.jobs.routine.install import plan_routine as plan_routine
from dunechest.jobs.routine.install import remove_routine as remove_routine
