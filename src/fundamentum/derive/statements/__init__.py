"""What a program says of itself: checks and what comes of them, lists, limits, versions, what it runs and writes."""
