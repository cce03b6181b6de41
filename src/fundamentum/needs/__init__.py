"""What an application requires: the model, its file, and the words of the file."""
