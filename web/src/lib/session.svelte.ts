import { Failure, session as ask, signIn, signOut, type Self } from "./api";

/** The token of this session; undefined until it is known, null if there is none. */
class Session {
  self = $state<Self | null | undefined>(undefined);
  trouble = $state("");

  async begin() {
    this.trouble = "";
    try {
      this.self = await ask();
    } catch (e) {
      if (e instanceof Failure && e.status === 401) this.self = null;
      else this.trouble = (e as Error).message;
    }
  }

  async enter(token: string) {
    this.self = await signIn(token);
  }

  async leave() {
    await signOut();
    this.self = null;
  }

  get repo() {
    return this.self?.repo ?? "";
  }
}

export const session = new Session();
