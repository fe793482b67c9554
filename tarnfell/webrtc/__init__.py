"""The far end's side for browsers: calls over WebRTC data channels, with both ends' packets on record.

The one part of a far end that needs packages of others (aiortc). A far end that is started for browsers hands sessions
here that ask for one; without it, it says so.
"""
