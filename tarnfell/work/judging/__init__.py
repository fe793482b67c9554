"""Where a site stands, and what is to be done next."""
