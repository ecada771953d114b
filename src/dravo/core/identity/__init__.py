"""From source records to one user: policy, matching, merging and claims."""
