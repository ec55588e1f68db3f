"""What would mend findings: changes of facts, tried on the evidence before anybody makes them."""
