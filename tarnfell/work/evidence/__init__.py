"""What a site's records show: each call a fact (``facts``), and what follows from all of them (``evaluations``)."""
