"""The HTTP server: Flask over ``store`` and ``core``.

``app`` makes the application; each other module is one resource with its
routes, or (``models``, ``api``, ``auth``, ``evaluate``) what they share.
"""
