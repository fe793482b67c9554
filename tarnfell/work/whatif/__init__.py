"""What if: a site's own evidence judged as it would have been under a change. The clerk tries, people read.

``replay`` changes the facts, ``trial`` holds them against the brief and says what the answer cannot know.
"""
