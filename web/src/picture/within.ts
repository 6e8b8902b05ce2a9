// Keeping what is looked at within the picture.

/** The middle nearest to the wanted one at which `extent` lies within 0..`all`; the middle of all where it is larger. */
export function within(middle: number, extent: number, all: number): number {
  return extent >= all ? all / 2 : Math.min(Math.max(middle, extent / 2), all - extent / 2);
}
