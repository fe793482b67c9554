"""The line filled while calls are held on it: what a busy line does to them. Starts in filled.py."""
