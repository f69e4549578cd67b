import { Failure, session as ask, signIn, signOut, whenEnded, type Self } from "./api";

/** The token of this session; undefined until it is known, null if there is none. */
class Session {
  self = $state<Self | null | undefined>(undefined);
  trouble = $state("");
  ended = $state(false); // it was signed in before

  constructor() {
    // The page stays in the address, and is shown again after signing in.
    whenEnded(() => {
      if (this.self) this.ended = true;
      this.self = null;
    });
  }

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
    this.ended = false;
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
