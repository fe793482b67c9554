"""What may be placed at a site, and carrying it out: the site's rules, plans that come due, runs that hurt.

``rules`` says what stands against calls; asked by the screen before, by the request that places them, and by
``carry_out`` when a plan's step is due, so that all three answer alike.
"""
