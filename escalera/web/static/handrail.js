// Listening on the pages of a song: the player, the handrail at the bottom, and the keys for both.
import { clockText } from "./clock.js";
import { heardLog } from "./heard.js";
import { Player } from "./player.js";
import { say } from "./shell.js";

const GOES_ON_MS = 8000;
const $ = (id) => document.getElementById(id);

// `chosen` gives the id of the chosen section or 0; `onPlace(at, playing)` is told where the playhead stands;
// `before` is called before the song starts to sound.
// `looped` gives what of the chosen section the loop takes (see Player.rangeOf).
/** @param {{ chosen: () => number, onPlace?: (at: any, player: any) => void, before?: () => void, looped?: () => object }} page */
export function handrail({ chosen, onPlace = () => {}, before = () => {}, looped = () => ({}) }) {
  const player = new Player(tick, (message) => say(message));
  window.escalera = { player };
  const log = heardLog(JSON.parse($("manifest").textContent).song, [() => player.heard()]);
  const manifest = () => JSON.parse($("manifest").textContent);
  let played = 0,
    lastTick = 0,
    reminded = false,
    seen = "";

  function chosenIndex() {
    const index = player.manifest.sections.findIndex((s) => s.id === Number(chosen()));
    return index >= 0 ? index : player.place(player.at).index;
  }
  function names() {
    const section = player.manifest?.sections[chosenIndex()];
    const looping = player.loop && player.manifest.sections.find((s) => s.id === player.loop.section);
    $("loop").textContent = looping ? `Looping ${looping.name}` : `Loop ${section?.name ?? "section"}`;
    $("lead-in").textContent = `Last two bars, then ${section?.name ?? "this"}`;
  }
  function tick(seconds, level) {
    const at = player.place(seconds);
    $("position").querySelector("b").textContent = `${at.bar}.${at.beat}`;
    $("clock").textContent = clockText(seconds);
    $("rail-head").style.left = `${(100 * seconds) / Math.max(0.001, player.end)}%`;
    onPlace(at, player);
    const lufs = player.manifest.lufs?.[at.barIndex];
    $("loudness").textContent =
      lufs === undefined
        ? "this bar: not measured yet"
        : lufs === null
          ? "this bar: silent"
          : `this bar ${lufs.toFixed(1).replace("-", "−")} LUFS`;
    if (level !== null)
      $("level").style.transform =
        `scaleX(${Math.max(0, Math.min(1, 1 + (20 * Math.log10(Math.max(level, 1e-5))) / 60))})`;
    $("play").textContent = player.playing ? "Pause" : "Play";
    const now = performance.now();
    if (player.playing && now - lastTick < 1000) played += now - lastTick;
    lastTick = now;
    if (!reminded && played > 3600e3) {
      reminded = true;
      say("You have listened for an hour. Ten minutes of quiet keep your ears honest, and safe.", "calm");
    }
  }
  function toggle() {
    before();
    if (player.playing || player.pending) {
      player.stop();
      tick(player.at, 0);
    } else player.play().then(() => tick(player.position(), 0));
  }
  function setLoop(range) {
    player.loop = range;
    $("loop").setAttribute("aria-pressed", String(Boolean(range)));
    const bar = $("rail-loop");
    bar.hidden = !range;
    if (range) {
      bar.style.left = `${(100 * range.from) / player.end}%`;
      bar.style.width = `${(100 * (range.to - range.from)) / player.end}%`;
    }
    names();
  }
  function loop() {
    if (player.loop) {
      setLoop(null);
      if (player.playing) player.play(player.position(), null);
      return;
    }
    const range = player.rangeOf(player.manifest.sections[chosenIndex()].id, looped()),
      at = player.position();
    before();
    setLoop(range);
    player.play(at >= range.from && at < range.to && player.playing ? at : range.from, range);
  }
  function leadIn() {
    const index = chosenIndex(),
      previous = player.manifest.sections[index - 1];
    let from = player.startOf(index);
    if (previous) from = previous.start / 44100 + previous.bars[Math.max(0, previous.bars.length - 3)];
    before();
    setLoop(null);
    player.play(from, null);
  }
  function fromHere() {
    before();
    setLoop(null);
    player.play(player.startOf(chosenIndex()), null);
  }
  function jump(seconds) {
    const at = Math.max(0, Math.min(seconds, player.end - 0.05));
    if (player.playing) player.play(at);
    else {
      player.at = at;
      tick(at, 0);
    }
  }
  $("rail-box").addEventListener("click", (event) => {
    const box = $("rail-box").getBoundingClientRect();
    jump((player.end * (event.clientX - box.left)) / box.width);
  });
  // After a click with the mouse the keys are the page's again, so that Space pauses whatever was clicked.
  document.querySelector(".rail-row").addEventListener("click", (event) => {
    const button = /** @type {HTMLElement} */ (event.target).closest("button");
    if (button && event.detail) button.blur();
  });
  $("volume").addEventListener("input", (event) => player.volume(Number(event.target.value)));

  // After every answer: the player takes the new manifest. Says whether there was one.
  function refresh() {
    const text = $("manifest").textContent;
    if (text === seen) return false;
    seen = text;
    player.load(manifest());
    names();
    setLoop(player.loop);
    tick(player.position(), null);
    return true;
  }
  // True when the key was one of listening.
  function key(event) {
    const name = event.key.toLowerCase(),
      act = { l: loop, b: leadIn, p: fromHere }[name];
    if (event.key === " " && !event.target.closest?.("button, a, summary, input")) {
      event.preventDefault();
      toggle();
    } else if (act) act();
    else if (event.key === "Home" && !event.target.closest?.("input")) jump(0);
    else return false;
    return true;
  }
  // Where one listened, how loud and what went round, kept from page to page of the song while this window is open.
  const memory = () => `listening:${player.manifest.song}`;
  function remember() {
    sessionStorage.setItem(
      memory(),
      JSON.stringify({
        at: player.position(),
        volume: $("volume").value,
        loop: player.loop,
        left: player.playing ? Date.now() : 0,
        played,
      }),
    );
  }
  function recall() {
    const kept = JSON.parse(sessionStorage.getItem(memory()) ?? "null");
    if (!kept) return;
    $("volume").value = kept.volume;
    player.volume(Number(kept.volume));
    played = kept.played ?? 0; // what was listened to on the song's other pages counts for the ears too
    player.at = Math.min(kept.at, Math.max(0, player.end - 0.05));
    if (kept.loop) setLoop(player.rangeOf(kept.loop.section, kept.loop));
    // What was sounding when the page was left goes on; nothing else begins by itself.
    if (kept.left && Date.now() - kept.left < GOES_ON_MS)
      player.play(player.at, player.loop).then(() => tick(player.position(), 0));
  }
  window.addEventListener("pagehide", remember);
  player.load(manifest());
  seen = $("manifest").textContent;
  recall();
  names();
  tick(player.at, 0);
  return {
    player,
    log,
    setLoop,
    tick,
    names,
    refresh,
    key,
    volume: () => Number($("volume").value),
    minutes: () => played / 60e3,
    actions: { play: toggle, loop, "lead-in": leadIn, "from-here": fromHere },
  };
}
