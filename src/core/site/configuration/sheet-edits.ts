import { type ByteString, bytesOfText, type Edit } from '../../bytes.js';

/** A replacement in a file that the sheet asks for. */
export interface SheetEdit {
  readonly file: string;
  readonly find: string;
  readonly put: string;
}

/** The edits that the sheet asks for in one file, each occurrence of what is to be found, from left to right. */
export function sheetEditsIn(
  source: ByteString,
  wishes: readonly SheetEdit[],
): { edits: Edit[]; counts: number[] } {
  const edits: Edit[] = [];
  const counts = wishes.map(({ find, put }) => {
    const wanted = bytesOfText(find);
    let count = 0;
    for (let at = source.indexOf(wanted); at >= 0; at = source.indexOf(wanted, at + wanted.length)) {
      edits.push({ start: at, end: at + wanted.length, put: bytesOfText(put) });
      count++;
    }
    return count;
  });
  edits.sort((a, b) => a.start - b.start);
  // Where two wishes overlap, the one that begins first is carried out.
  let end = 0;
  const apart = edits.filter(edit => {
    if (edit.start < end) return false;
    end = edit.end;
    return true;
  });
  return { edits: apart, counts };
}
