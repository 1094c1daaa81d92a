// How times are written and sound is drawn, beside the page that has its own.

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
