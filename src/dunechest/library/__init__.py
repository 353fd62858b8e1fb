"""A library on a machine: kinds, recognition, roles, what marks it as in use, and its databases."""
