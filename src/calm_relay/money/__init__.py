"""Money: cost lines that follow a plan, rebates, old contracts, the firm's price list, and cash over the years."""
