/** A number with its thousands set apart by blanks, as the service tells them. */
export const number = (n: number) => n.toLocaleString("en").replaceAll(",", " ");
