"""The same packets as they would have come over a network that is changed in one respect: from trace to trace.

``queues`` reads the queue out of a trace, ``remedies`` changes it. What a change cannot know is a range, never a guess.
"""
