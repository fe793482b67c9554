"""Calls of browsers over WebSocket to this server, for networks that let no UDP out: a process beside the server's own,
so that no request keeps a packet waiting.
"""
