"""Going through the files of a tree: a quick look at all, then parsing those that can change the answer."""
