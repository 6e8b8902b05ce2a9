// What a line of the job sheet says while it is folded.

export interface Fact {
  text: string;
  /** Something still needs a decision. */
  open?: boolean;
}
