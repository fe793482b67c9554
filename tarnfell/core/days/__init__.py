"""Days of samples: what is normal, what is not, when it comes back, and whose leg it is.

``rounds`` puts samples side by side, ``calm`` says what each place usually answers, ``stretches`` finds when the way
would have spoiled calls, ``blame`` on which leg, ``recurrence`` when it comes again; ``analysis`` is the way through.
"""
