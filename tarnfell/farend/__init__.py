"""The far end: answers keyed sessions, receives and sends media, reflects time stamps.

It sends only what it was asked for, only to addresses that proved they
receive, and bounds every table it keeps.
"""
