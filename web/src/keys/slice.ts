// The sheet of keys.

interface Lasting {
  keysShown: boolean;
}

export const keySheet: { lasting: Lasting } = { lasting: { keysShown: false } };
