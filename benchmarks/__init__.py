"""Speed as ratios measured in one run: machines differ, ratios less so."""
