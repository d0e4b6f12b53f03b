// Short messages: what went wrong, and what to do about it.
import { Problem } from "../api/client";

export interface Notice {
  id: number;
  text: string;
  grave: boolean;
  action?: { label: string; run: () => void };
}

class Notices {
  list = $state<Notice[]>([]);
  #next = 1;

  say(text: string, options: { grave?: boolean; action?: Notice["action"] } = {}) {
    // The same twice is one.
    this.list = this.list.filter((notice) => notice.text !== text);
    const notice = { id: this.#next++, text, grave: options.grave ?? false, action: options.action };
    this.list = [...this.list.slice(-3), notice];
    if (!notice.grave && !notice.action) setTimeout(() => this.dismiss(notice.id), 5000);
  }

  dismiss(id: number) {
    this.list = this.list.filter((notice) => notice.id !== id);
  }

  /** Runs something and says so if it fails. */
  async attempt<T>(work: () => Promise<T>): Promise<T | undefined> {
    try {
      return await work();
    } catch (error) {
      this.say(error instanceof Problem ? error.message : String(error), { grave: true });
      return undefined;
    }
  }
}

export const notices = new Notices();
