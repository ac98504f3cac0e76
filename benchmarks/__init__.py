"""What ./hauch benchmark runs: Hauch against a plain library call on the same data, in one run."""
