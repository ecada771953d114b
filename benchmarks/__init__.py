"""What `make bench` runs: each figure a ratio against a bare baseline measured in the same run."""
