"""Tarnfell: can this site carry the calls it is about to be given?"""

__version__ = "0.1.0"
