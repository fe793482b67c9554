"""From many calls to an answer: what was shown, what was shown not, what is still open.

facts → readings (each against the brief) → moments (how sure a share is) → capacity and requirements → score;
diagnosis names causes from the readings, with case (what else was measured then), reach and impairments (the causes);
site puts it all together. decisions lays over it what the consultant decided; closing is the evidence still short.
Nothing here looks at packets.
"""
