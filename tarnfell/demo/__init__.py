"""The scenario of Merrow Sound Ferries: made-up sites whose truth is told by simulated packets.

Nothing here types in a result. ``simulate`` moves packets, ``scenario`` says
what is wrong where, ``history`` sends the packets through the same ingest as a
probe's, ``run`` starts everything on one machine.
"""
