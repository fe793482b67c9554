"""Watches: continuous samples, begun, ended and shown."""
