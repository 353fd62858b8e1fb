"""Make one of two files of the same sort, where a library joins another: as its kind says, and not otherwise."""
