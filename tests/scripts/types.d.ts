// Shapes that the scripts share, and what TypeScript's library does not know of this page.

/** The page's events come from HTML elements; its forms' fields are looked up by selector. */
interface EventTarget {
  closest(selector: string): HTMLElement | null;
  matches(selector: string): boolean;
  id: any;
  name: any;
  value: any;
}
interface Element {
  dataset: DOMStringMap;
  value: any;
  name: any;
  checked: any;
  hidden: any;
  selectionStart: any;
  selectionEnd: any;
  onclick: any;
  blur(): void;
  focus(): void;
  select(): void;
  setSelectionRange(start: number, end: number): void;
  setAttribute(name: string, value: string | number | boolean): void;
  showModal(): void;
}
interface Event {
  detail: any;
}

// ---- light or dark (look.js)

declare var LOOK: { turnTheme(): void; turnContrast(): void };

// ---- the audio thread

declare class AudioWorkletProcessor {
  port: MessagePort;
}
declare const currentTime: number;
declare const currentFrame: number;
declare const sampleRate: number;
declare function registerProcessor(name: string, processor: typeof AudioWorkletProcessor): void;

// ---- what the server sends

/** A track or a part, as `/facts` tells of it; a part has an instrument. */
interface Lane {
  id: number;
  name: string;
  channels: number;
  frames: number;
  gain: number;
  muted: boolean;
  solo: boolean;
  analysed?: boolean;
  instrument?: string;
  rides?: boolean;
  remarks?: string[];
  weight?: number;
  given?: number;
  reason?: string;
  step?: number;
  version?: string;
}

interface Facts {
  id: number;
  rate: number;
  seconds: number;
  block: number;
  tile: number;
  levels: number[];
  tracks: Lane[];
  parts: Lane[];
  clock: string;
}

/** Beats and bars: seconds, bar, beat in the bar and tempo of each beat; the felt-beat index of the first. */
interface GridData {
  time: number[];
  bar: number[];
  beat: number[];
  bpm: number[];
  first: number;
  pins: number[];
  meters: { bar: number; time: number; text: string }[];
}

/** What changed of a grid: times and tempos from place `from` on. */
interface GridChange {
  from?: number;
  time: number[];
  bpm: number[];
  pins: number[];
  meters: GridData["meters"];
}

/** A place of the running order, in samples of the take. */
interface Turn {
  id?: number;
  name?: string;
  start: number;
  end: number;
  bars: number[];
  times: number;
  hold: boolean;
  pace: number;
}

/** Where time jumps: from sample `at` to sample `to`, or to an end (null). */
interface Jump {
  at: number;
  to: number | null;
  item?: number;
  round?: number;
}

interface Window {
  htmx: any;
  desk: any;
}
declare var htmx: any;
declare var Idiomorph: any;
declare var desk: any;

declare module "*/noble/sha2.js" {
  export * from "@noble/hashes/sha2.js";
}
declare module "*/noble/utils.js" {
  export * from "@noble/hashes/utils.js";
}
