"""Events and the evidence that was kept with them."""
