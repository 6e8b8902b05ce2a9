import { useEvents } from "./api/events";
import { Home } from "./home/Home";
import { KeySheet } from "./keys/KeySheet";
import { Workplace } from "./Workplace";
import { Notices } from "./ui/Notices";
import { usePath } from "./ui/path";

export function App() {
  useEvents();
  const path = usePath();
  const set = /^\/set\/(\d+)$/.exec(path)?.[1];
  return (
    <>
      {set ? <Workplace key={set} id={Number(set)} /> : <Home />}
      <KeySheet />
      <Notices />
    </>
  );
}
