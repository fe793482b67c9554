"""Cheap questions to the network, a module each: what was asked, and what came back. None of them judges."""
