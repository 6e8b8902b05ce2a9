// How the place under the pointer is laid out.

interface Fresh {
  byMethod: boolean;
  /** The frame that is shown at the open place while its crop is pointed at. */
  peek: number | null;
}

interface Lasting {
  /** Crops in order of how much they show of the plate, instead of time. */
  clearest: boolean;
}

export const lookThrough: { fresh: Fresh; lasting: Lasting } = {
  fresh: { byMethod: false, peek: null },
  lasting: { clearest: false },
};
