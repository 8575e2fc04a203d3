// Two passages at one loudness, going round; they change over on the next beat, at the same place in the bar. Blind, nobody says which is which
// until one was chosen.
import { say } from "./shell.js";

const CROSS_S = 0.012;

// `path` is where the passages come from, `volume` gives the listening level in dB, `quiet` stops whatever else plays.
export function besidePlayer(path, volume, quiet) {
  let ctx = null,
    playing = null,
    swapped = null, // while it is blind: whether the first button plays the second passage
    ticket = 0;
  const sounds = new Map();
  const box = () => document.getElementById("beside");
  const told = (text) => {
    const line = document.getElementById("beside-said");
    if (line) line.textContent = text;
  };
  const beats = (which) => JSON.parse(box().dataset[which ? "beatsOther" : "beatsOne"]);
  function sound(which) {
    const { one, other } = box().dataset,
      url = `${path}/beside/${which}.wav?${new URLSearchParams({ one, other })}`,
      key = `${url} ${document.querySelector("#state [name=base]").value}`;
    if (!sounds.has(key)) {
      const made = fetch(url)
        .then((answer) => {
          if (!answer.ok) throw new Error("beside");
          return answer.arrayBuffer();
        })
        .then((data) => ctx.decodeAudioData(data));
      made.catch(() => sounds.delete(key));
      sounds.set(key, made);
    }
    return sounds.get(key);
  }
  // Where in its beats a passage is: which beat, and how far into it.
  function place() {
    const list = playing.beats,
      at = (playing.from + ctx.currentTime - playing.when) % list[list.length - 1];
    let beat = 0;
    while (beat < list.length - 2 && at >= list[beat + 1]) beat++;
    return { beat, left: list[beat + 1] - at };
  }
  async function hear(button) {
    if (!box()) return;
    ctx ??= new AudioContext({ sampleRate: 44100 });
    quiet();
    const mine = ++ticket,
      which = swapped === null ? button : swapped ? 1 - button : button;
    await ctx.resume();
    let buffer;
    try {
      buffer = await sound(which);
    } catch {
      say("One of the two could not be made to sound. Load the page again.");
      return;
    }
    if (mine !== ticket) return;
    const list = beats(which),
      now = playing && place(),
      when = now ? ctx.currentTime + now.left : ctx.currentTime + 0.03,
      from = now ? list[(now.beat + 1) % (list.length - 1)] : 0,
      source = ctx.createBufferSource(),
      gain = ctx.createGain();
    source.buffer = buffer;
    source.loop = true;
    source.loopEnd = Math.min(buffer.duration, list[list.length - 1]);
    source.connect(gain).connect(ctx.destination);
    gain.gain.setValueAtTime(0, when);
    gain.gain.linearRampToValueAtTime(10 ** (volume() / 20), when + CROSS_S);
    source.start(when, from);
    if (playing) end(playing, when);
    playing = { source, gain, when, from, beats: list, button, which };
    mark();
    told(swapped === null ? "" : "Which one is it? Press Blind again to be told.");
  }
  function end({ source, gain }, when) {
    gain.gain.cancelScheduledValues(when);
    gain.gain.setValueAtTime(10 ** (volume() / 20), when);
    gain.gain.linearRampToValueAtTime(0, when + CROSS_S);
    source.stop(when + CROSS_S + 0.02);
  }
  function stop() {
    ticket++;
    if (!playing) return;
    end(playing, ctx.currentTime);
    playing = null;
    mark();
  }
  function blind(button) {
    const names = [...document.querySelectorAll("[data-hear-beside]")],
      table = document.getElementById("beside-table");
    stop();
    if (swapped === null) {
      swapped = Math.random() < 0.5;
      for (const [i, each] of names.entries()) {
        each.dataset.label = each.innerHTML;
        each.innerHTML = `<b>${i + 1}</b>`;
      }
      told("Two sounds; which is which is not said.");
    } else {
      const first = names[swapped ? 1 : 0].dataset.label
        .replace(/<[^>]*>/g, "")
        .slice(1)
        .trim();
      for (const each of names) each.innerHTML = each.dataset.label;
      told(`The first one was ${first}.`);
      swapped = null;
    }
    if (table) table.hidden = swapped !== null;
    button.setAttribute("aria-pressed", String(swapped !== null));
  }
  function mark() {
    for (const each of document.querySelectorAll("[data-hear-beside]"))
      each.setAttribute("aria-pressed", String(playing?.button === Number(each.dataset.hearBeside)));
  }
  // After an answer of the server: what is gone from the page does not go on sounding.
  function refresh() {
    if (!box()) {
      stop();
      swapped = null;
    } else mark();
  }
  return { hear, stop, blind, refresh, state: () => ({ which: playing?.which ?? null, swapped }) };
}
