// Pairs of lowest and highest samples as the server sends them, and where they lie.

const PAIR_FRAMES = 256;

// Fewer pairs than columns are those of the file itself, which begin at whole multiples.
export function placed(pairs, start, end, columns) {
  const own = pairs.length / 2 < columns;
  return { pairs, start: own ? start - (start % PAIR_FRAMES) : start, perPair: own ? PAIR_FRAMES : (end - start) / (pairs.length / 2) };
}
