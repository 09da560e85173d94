"""What goes over the wire, by stage. The page's types are made from these."""
