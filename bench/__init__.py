"""The benchmarks: `make bench` measures, `make screenshots` draws."""
