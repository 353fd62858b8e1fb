"""A library on a computer: its kind, its files and their roles, its references and parts, and what marks it as in use."""
