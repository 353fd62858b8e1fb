"""Study a library and a drive before anything is decided."""
