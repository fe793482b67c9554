from tarnfell.cli import main

raise SystemExit(main())
