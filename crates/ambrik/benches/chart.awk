# Draws lines "name, ratio, bar" as horizontal bars (SVG): blue within the bar, orange over it; a line where the bar is.
BEGIN {
  print "<svg xmlns=\"http://www.w3.org/2000/svg\" viewBox=\"0 0 760 250\" font-family=\"sans-serif\" font-size=\"15\">"
  print "<rect width=\"760\" height=\"250\" fill=\"white\"/>"
  print "<text x=\"20\" y=\"30\" font-size=\"17\">Time, as a multiple of what it is measured against; the line is the bar it must keep</text>"
}
{
  y = 20 + NR * 46; scale = 300
  printf "<text x=\"250\" y=\"%d\" text-anchor=\"end\">%s</text>\n", y + 19, $1
  printf "<rect x=\"262\" y=\"%d\" width=\"%.0f\" height=\"26\" fill=\"%s\"/>\n", y, $2 * scale, ($2 <= $3 ? "#3a6ea5" : "#d9822b")
  printf "<line x1=\"%.0f\" x2=\"%.0f\" y1=\"%d\" y2=\"%d\" stroke=\"black\" stroke-width=\"2\"/>\n", 262 + $3 * scale, 262 + $3 * scale, y - 6, y + 32
  printf "<text x=\"%.0f\" y=\"%d\">%s  (bar %s)</text>\n", 262 + ($2 > $3 ? $2 : $3) * scale + 8, y + 19, $2, $3
}
END { print "</svg>" }
