"""The clerk: a second process over the same data, which computes what no request should wait for.

It turns over durable records (``loop``) and holds nothing in memory alone, so it may be killed at any instant.
"""
