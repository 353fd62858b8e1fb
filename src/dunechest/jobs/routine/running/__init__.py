"""Running what is due: each step is a whole job, through its own door. What is due is decided in `planning`."""
