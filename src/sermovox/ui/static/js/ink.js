// How times are written and sound is drawn.

/** h:mm:ss, or m:ss below an hour, with so many digits of a second; without digits a second counts once it is over. */
export const clock = (seconds, digits = 0) => {
  const scale = 10 ** digits;
  const units = digits ? Math.round(seconds * scale) : Math.floor(seconds);
  const minutes = Math.floor(units / scale / 60), hours = Math.floor(minutes / 60);
  const rest = ((units - minutes * 60 * scale) / scale).toFixed(digits).padStart(digits ? digits + 3 : 2, "0");
  return hours ? `${hours}:${String(minutes % 60).padStart(2, "0")}:${rest}` : `${minutes}:${rest}`;
};

/** The share of a line's half that a share of full scale takes: on a curve, so that quiet speech can be seen beside loud. */
export const onCurve = (share) => Math.sign(share) * Math.min(1, Math.abs(share)) ** 0.6;

/** The lowest and the highest of pairs (low, high) from one to before another; [Infinity, -Infinity] of none. */
export function extremes(pairs, first, end) {
  let low = Infinity, high = -Infinity;
  for (let at = Math.max(0, first); at < Math.min(pairs.length / 2, end); at += 1) {
    low = Math.min(low, pairs[2 * at]);
    high = Math.max(high, pairs[2 * at + 1]);
  }
  return [low, high];
}

/** A pen for an empty canvas of so many pixels of the page, as sharp as the screen is. */
export function sharp(canvas, wide, tall) {
  const across = Math.round(wide * devicePixelRatio), down = Math.round(tall * devicePixelRatio);
  if (canvas.width !== across || canvas.height !== down) {
    canvas.width = across;
    canvas.height = down;
  }
  const pen = canvas.getContext("2d");
  pen.setTransform(devicePixelRatio, 0, 0, devicePixelRatio, 0, 0);
  pen.clearRect(0, 0, wide, tall);
  return pen;
}

/** The inks an element is written in, by their names. */
export function inks(element) {
  const style = getComputedStyle(element);
  return (name) => style.getPropertyValue(`--${name}`);
}
