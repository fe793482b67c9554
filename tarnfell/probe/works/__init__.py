"""What a probe can do that ends: a module a kind, each run in a process of its own by tarnfell/probe/child.py."""
