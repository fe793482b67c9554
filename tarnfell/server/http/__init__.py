"""Flask itself: the application, how routes are declared, who asks, what is logged."""
