/** A number with its thousands set apart by blanks, as the service writes them; rounded to so many digits, if asked. */
export const number = (n: number, digits?: number) =>
  n.toLocaleString("en", { maximumSignificantDigits: digits }).replaceAll(",", " ");
