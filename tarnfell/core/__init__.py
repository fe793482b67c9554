"""Numbers in, numbers out: the measuring science of Tarnfell.

Nothing in this folder opens a socket, a file of the user's or a database,
reads a clock or draws a random number. It imports nothing else of ours.

trace → streams → playout → quality is the way of one call;
clock puts both ends on one scale; codecs and rates describe what is sent;
stats, findings and verdict judge many calls.
"""
