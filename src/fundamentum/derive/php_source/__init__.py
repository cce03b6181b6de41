"""PHP source as text and as a tree of syntax: its words, its names, its nodes, what one file tells."""
