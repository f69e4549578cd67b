/** Data of a page. Only the answer to the newest question is used; a refresh that
 * is asked for while one is in flight follows it, so that none is lost or
 * started over. */
export class Loader<T> {
  data = $state.raw<T | null>(null);
  trouble = $state("");
  status = $state(0); // of the last failure
  busy = $state(false);
  #asked = 0;
  #again: (() => Promise<T>) | null = null;

  /** Asks a new question; the data of the last one stay until it is answered,
   * unless they are to be cleared. */
  async ask(question: () => Promise<T>, clear = false) {
    const mine = ++this.#asked;
    this.#again = null;
    this.busy = true;
    if (clear) this.data = null;
    try {
      const data = await question();
      if (mine === this.#asked) {
        this.data = data;
        this.trouble = "";
      }
    } catch (e) {
      if (mine === this.#asked) {
        this.trouble = (e as Error).message;
        this.status = (e as { status?: number }).status ?? 0;
      }
    } finally {
      if (mine === this.#asked) {
        this.busy = false;
        const next = this.#again;
        if (next) this.ask(next);
      }
    }
  }

  /** Asks the same question again, because the records changed. */
  refresh(question: () => Promise<T>) {
    if (this.busy) this.#again = question;
    else this.ask(question);
  }
}
