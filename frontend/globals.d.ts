// What these scripts know of their page: an element that they find by its id or class is of the kind
// that the template gives it. Names, arguments and all values of their own are checked.
interface Window {
  htmx: any;
}
interface Event {
  detail: any;
}
interface ParentNode {
  querySelector(selectors: string): any;
  querySelectorAll(selectors: string): NodeListOf<any>;
}
interface Document {
  getElementById(id: string): any;
  activeElement: any;
}
interface Element {
  closest(selectors: string): any;
  focus(options?: FocusOptions): void;
  blur(): void;
  value: any;
}
interface EventTarget {
  closest(selectors: string): any;
  getAttribute(name: string): string;
  setAttribute(name: string, value: string): void;
  matches: any;
  dataset: any;
  id: string;
  open: any;
  value: any;
  files: FileList;
  isConnected: boolean;
  focus(options?: FocusOptions): void;
}
