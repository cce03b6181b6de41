"""The files of an application: what lies in its directory or archive, and what of that is PHP source."""
