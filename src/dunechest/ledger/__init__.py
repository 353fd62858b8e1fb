"""This machine's own record of chests, archived libraries, checks, and libraries seen.

Two rooms: `notes` appends what happened (it is quick to load and cannot be torn
by a crash), `book` gathers the notes into an SQLite database and answers questions.
"""
