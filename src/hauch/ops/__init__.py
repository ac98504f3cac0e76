"""Operations: cluster, start, tests, benchmarks. What ./hauch runs."""
