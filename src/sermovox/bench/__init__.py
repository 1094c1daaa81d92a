"""The benchmark tables: ratios measured in one run on one machine. Run by bin/bench."""
