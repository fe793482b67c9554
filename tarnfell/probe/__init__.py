"""The field agent: places calls to a far end, and works for a server it was enrolled with.

Standard library only, Python 3.9 or newer. It measures and never judges:
what a packet's delay means for a call is decided where the record is read.
"""
