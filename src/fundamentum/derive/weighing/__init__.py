"""From all evidence to needs: which level, which of several, which version, with the places that decided."""
