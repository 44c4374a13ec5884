"""Rule packs: the parameters that differ by country and network, each with its source, as data files."""
