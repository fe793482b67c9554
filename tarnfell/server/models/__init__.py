"""Requests and responses of the web API. Times are UTC microseconds unless the name says local."""
