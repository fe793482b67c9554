"""Requests and responses of this room."""
