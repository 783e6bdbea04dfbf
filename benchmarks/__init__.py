"""Speed and memory, as ratios against standard commands in the same run."""
