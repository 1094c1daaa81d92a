// Versions of one stretch that sound together in step, of which one is let through; switched without a gap.

const RAMP_S = 0.008;
const SOON_S = 0.02;

// Start all versions at one moment of a context's own clock, again and again; `levels` are what each is let through at.
export function together(context, buffers, levels, first, at = context.currentTime + SOON_S) {
  const gates = buffers.map((buffer, number) => {
    const source = new AudioBufferSourceNode(context, { buffer, loop: true });
    const gate = new GainNode(context, { gain: number === first ? levels[number] : 0 });
    source.connect(gate).connect(context.destination);
    source.start(at);
    return { source, gate };
  });
  let now = first;
  const ramp = (number, to, from) => {
    const { gain } = gates[number].gate;
    gain.cancelScheduledValues(from);
    gain.setValueAtTime(number === now ? levels[number] : 0, from);
    gain.linearRampToValueAtTime(to, from + RAMP_S);
  };
  return {
    began: at,
    get now() { return now; },
    // Let another one through from a moment on; tells when only that is heard.
    turn(number, from = context.currentTime) {
      if (number === now) return from;
      ramp(now, 0, from);
      ramp(number, levels[number], from);
      now = number;
      return from + RAMP_S;
    },
    louder(others) {
      const from = context.currentTime;
      ramp(now, others[now], from);
      levels = others;
    },
    stop() {
      for (const { source, gate } of gates) {
        source.stop();
        gate.disconnect();
      }
    },
  };
}
