import { TestEnvironment } from 'jest-environment-jsdom';

/** A browser's page with what jsdom lacks: requests, which tests answer themselves, and a size, so that long lists show some of their rows. */
export default class Page extends TestEnvironment {
  async setup() {
    await super.setup();
    const window = this.global;
    class PageRequest extends Request {
      /** Addresses of the page's own server are without a host. */
      constructor(input, init) {
        super(typeof input === 'string' ? new URL(input, 'http://ouvrage.test/') : input, init);
      }
    }
    class Observer {
      observe() {}
      unobserve() {}
      disconnect() {}
    }
    Object.assign(window, {
      Request: PageRequest,
      Response,
      Headers,
      AbortController,
      AbortSignal,
      structuredClone,
      TextEncoder,
      TextDecoder,
      fetch: () => Promise.reject(new TypeError('nothing is served')),
      ResizeObserver: Observer,
      IntersectionObserver: Observer,
      EventSource: class extends EventTarget {
        close() {}
      },
      matchMedia: (media) => ({ media, matches: false, addEventListener() {}, removeEventListener() {} }),
    });
    // Files are read as a page reads them.
    window.Blob.prototype.text = function () {
      return new Promise((resolve, reject) => {
        const reader = new window.FileReader();
        reader.onload = () => resolve(reader.result);
        reader.onerror = () => reject(reader.error);
        reader.readAsText(this);
      });
    };
    // The editor measures its text.
    window.Range.prototype.getClientRects = () => [];
    for (const [name, size] of [
      ['offsetHeight', 600],
      ['offsetWidth', 1200],
      ['clientHeight', 600],
      ['clientWidth', 1200],
    ])
      Object.defineProperty(window.HTMLElement.prototype, name, { get: () => size });
    // Charts measure words on a canvas where there is one.
    window.HTMLCanvasElement.prototype.getContext = () => null;
    Object.assign(window.Element.prototype, { scrollIntoView() {}, hasPointerCapture: () => false });
  }
}
