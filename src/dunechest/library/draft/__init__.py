"""Draft a kind file for an application that nobody described, from a study of one of its libraries."""
