NR == FNR && /^@@ / { n = substr(sign == "-" ? $2 : $3, 2) + 0; next }
NR == FNR && !n { next } # the names of the files
NR == FNR { c = substr($0, 1, 1); if (c == " " || c == sign) { wanted[n++] = substr($0, 2); count++ } next }
FNR in wanted { if ($0 == wanted[FNR]) seen++ }
END { exit seen != count }
