// A value as it was when it last came to rest, so that what is asked with it does not get in the way of what is looked at.
import { useEffect, useState } from "react";

export function useLater<T>(value: T, wait = 600): T {
  const [rested, rest] = useState(value);
  useEffect(() => {
    const timer = setTimeout(() => rest(value), wait);
    return () => clearTimeout(timer);
  }, [value, wait]);
  return rested;
}
