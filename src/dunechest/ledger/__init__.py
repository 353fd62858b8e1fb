"""This computer's own record of chests, archived libraries, checks, and libraries seen.

`events` appends what happened (it cannot be torn by a crash), `gather` moves events into the log of an SQLite database now
and then (`tables`, made by the revisions in `migrations`), `own` reads both, `ledger` and `memory` answer questions,
`catalogue` knows every file on every drive, and `past_changes` holds what was done to this computer, step by step, so that it can
be undone. `office` shares what happened with other computers.
"""
