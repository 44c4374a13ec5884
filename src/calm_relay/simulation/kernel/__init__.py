"""The compiled kernel: rules of one step, thin loops around it; one source for year, sums and variants."""
