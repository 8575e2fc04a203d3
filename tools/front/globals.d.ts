// What scripts find beside the browser's own, and what they know of elements that the markup promises.
declare const htmx: {
  ajax(verb: string, path: string, context: object): Promise<void>;
  process(element: Element): void;
  trigger(element: Element | string, name: string, detail?: object): void;
};

interface Window {
  // biome-ignore lint/suspicious/noExplicitAny: what a page shows of itself to tests
  escalera: any;
}

// Elements are found by id, class or data attribute; which kind they are stands in the template.
interface Known {
  value: string;
  checked: boolean;
  open: boolean;
  hidden: boolean;
  name: string;
  placeholder: string;
  tabIndex: number;
  selectionStart: number;
  style: CSSStyleDeclaration;
  dataset: DOMStringMap;
  elements: Record<string, HTMLInputElement> & Iterable<HTMLInputElement>;
  options: HTMLOptionsCollection;
  selectedOptions: HTMLCollectionOf<HTMLOptionElement>;
  content: string;
  click(): void;
  focus(options?: FocusOptions): void;
  blur(): void;
  close(): void;
  reset(): void;
  showModal(): void;
  requestSubmit(submitter?: HTMLElement): void;
  setSelectionRange(start: number, end: number): void;
}
interface Element extends Known {}
interface EventTarget extends Known {
  id: string;
  scrollTop: number;
  closest(selectors: string): HTMLElement | null;
  matches(selectors: string): boolean;
  querySelector(selectors: string): HTMLElement | null;
}
interface Event {
  // biome-ignore lint/suspicious/noExplicitAny: htmx says in it what it did
  detail: any;
}

// what an audio worklet has besides
declare class AudioWorkletProcessor {
  readonly port: MessagePort;
}
declare const currentFrame: number;
declare function registerProcessor(name: string, processor: new () => AudioWorkletProcessor): void;
