// What was listened to on the pages of a song, the last two minutes of it: which state, which section, from where, how long.
const MOST_S = 120;

/**
 * @typedef {{ revision: number, section: number, from_s: number, seconds: number, sample?: number }} Part
 */

/**
 * The last two minutes of parts in order; what is shorter than a blink is left out, what goes on where the last one ended joins it.
 * @param {Part[]} parts
 * @returns {Part[]}
 */
export function lastParts(parts) {
  const joined = [];
  for (const part of parts) {
    const last = joined.at(-1),
      goesOn =
        last &&
        ["revision", "section", "sample", "alone", "off", "up", "tried"].every(
          (name) => (last[name] ?? "") === (part[name] ?? ""),
        ) &&
        Math.abs(last.from_s + last.seconds - part.from_s) < 0.02;
    if (goesOn) last.seconds += part.seconds;
    else if (part.seconds > 0.05) joined.push({ ...part });
  }
  let left = MOST_S;
  const kept = [];
  for (const part of joined.reverse()) {
    if (left <= 0) break;
    kept.unshift(part);
    left -= part.seconds;
  }
  return kept;
}

// Kept from page to page of the song while the window is open; `sources` give what was heard on this page.
export function heardLog(song, sources) {
  const name = `heard:${song}`;
  const before = () => JSON.parse(sessionStorage.getItem(name) ?? "[]");
  const all = () => lastParts([...before(), ...sources.flatMap((source) => source())]);
  window.addEventListener("pagehide", () => sessionStorage.setItem(name, JSON.stringify(all())));
  return { all, add: (source) => sources.push(source) };
}
