"""From many calls to an answer: what was shown, what was shown not, what is still open.

facts → readings (each against the brief) → moments (how sure a share is) → capacity, requirements, causes, score;
site puts them together. Nothing here looks at packets.
"""
