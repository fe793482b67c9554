import { StrictMode } from "react";
import { createRoot } from "react-dom/client";
import { DeskScreen } from "./desk-screen";
import "../app/styles.css";

const root = document.getElementById("root");
if (root) {
  createRoot(root).render(
    <StrictMode>
      <DeskScreen code={location.pathname.split("/")[2] ?? ""} />
    </StrictMode>,
  );
}
