"""Load: plans, runs, calls and video streams, and files that others bring."""
