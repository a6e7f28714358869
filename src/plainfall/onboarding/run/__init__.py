"""How a run of a part finds its way: failures, the changes that remedies propose, and the search among them."""
