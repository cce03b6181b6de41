"""Reading what others wrote: text, numbers, files and peers, each within bounds."""
