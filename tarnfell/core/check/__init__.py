"""A check of a site's network judged from what came back to each question (``judge``)."""
