/** Seconds as minutes, seconds and tenths: 83.26 is 1:23.3. @param {number} seconds */
export const clockText = (seconds) => {
  const t = Math.max(0, Math.round(seconds * 10));
  return `${Math.floor(t / 600)}:${String(Math.floor((t % 600) / 10)).padStart(2, "0")}.${t % 10}`;
};
