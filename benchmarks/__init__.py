"""Speed and memory, each against a stated yardstick in the same run: ``make bench`` writes docs/performance.md."""
