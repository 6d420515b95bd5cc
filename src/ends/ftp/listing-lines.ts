/** How a line of a listing begins: facts (RFC 3659, section 7), Unix modes, a DOS date, a count of blocks. */
const entryStart =
  /^(?:[^\s=;]+=[^;\r\n]*;|[-bcdlpsS?][-rwxsStTlL]{9}|[-dl] ?\[|\d{1,4}[-/.]\d{1,2}[-/.]\d{2,4}\s|total\b)/;
/** Stands for a line end in a name; no file's name can hold it. */
const heldLineEnd = '\0';

/** Joins the lines of a listing that belong to one name: some servers list a name with a line end as it is. */
export function holdLineEnds(listing: string): string {
  const lines: string[] = [];
  for (const line of listing.split('\n')) {
    const isEntry = line.trim() === '' || line.startsWith(' ') || entryStart.test(line);
    if (isEntry || lines.length === 0 || !entryStart.test(lines[0]!)) lines.push(line);
    else lines.push(`${lines.pop()!.replace(/\r$/, '')}${heldLineEnd}${line}`);
  }
  return lines.join('\n');
}

/** A name from a listing of `holdLineEnds`, with its line ends. */
export function withLineEnds(name: string): string {
  return name.replaceAll(heldLineEnd, '\n');
}
