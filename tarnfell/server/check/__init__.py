"""Checking a site before loading it."""
