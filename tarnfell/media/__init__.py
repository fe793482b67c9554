"""Media as both ends send and receive it: sockets, clocks and processes, standard library only.

probe and far end share this room. ``engine`` is the door: it runs the sending
loop (``sender``) and the receiving loop (``receiver``) beside each other over
one ``board`` of shared counters. ``host`` is what the machine itself allows
and how it misbehaves.
"""
