"""Array code: plain functions over float32 arrays that know nothing of recipes."""
