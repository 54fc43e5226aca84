/** A piece of a sentence, and where it leads within this console. */
export interface Piece {
  text: string;
  to?: string;
}

/** Makes links of the addresses of this console in a sentence, and of no others. */
export function linked(sentence: string, origin = location.origin): Piece[] {
  return sentence.split(/(https?:\/\/[^\s,]+)/).flatMap((text): Piece[] => {
    if (text === '') return [];
    return [text.startsWith(origin + '/') ? { text, to: text.slice(origin.length) } : { text }];
  });
}
