"""Simulated network and services, so that everything can be tried and tested on one machine."""
