// Where in the application we are: the address itself, without a router.
import { useSyncExternalStore } from "react";

const listen = (changed: () => void) => {
  window.addEventListener("popstate", changed);
  return () => window.removeEventListener("popstate", changed);
};

export const usePath = () => useSyncExternalStore(listen, () => window.location.pathname);

export function go(path: string) {
  window.history.pushState(null, "", path);
  window.dispatchEvent(new PopStateEvent("popstate"));
}
