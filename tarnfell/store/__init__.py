"""Records in SQLite: plain SQL, one module per kind of record.

``db`` opens and migrates; every other module takes a connection and returns
frozen values. Raw packet records are kept as they came, compressed; judged
figures stand beside them and can always be computed again.
"""
