/** A number with its thousands set apart by blanks, as the service tells them; rounded to so many digits, if told. */
export const number = (n: number, digits?: number) =>
  n.toLocaleString("en", { maximumSignificantDigits: digits }).replaceAll(",", " ");
