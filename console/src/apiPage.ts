/** The page on which the API can be read and tried; everything it needs comes from the service. */

import "@fontsource-variable/inter";
import "@fontsource-variable/jetbrains-mono";
import "rapidoc";

import { sessionHeaders } from "./api/session";

const kept = localStorage.getItem("mantine-color-scheme-value");
const prefers = window.matchMedia("(prefers-color-scheme: dark)").matches;
const dark = kept === "dark" || (kept !== "light" && prefers);
const look = dark
  ? { theme: "dark", ground: "#20262b", ink: "#e9e4d9", bar: "#2a3137", accent: "#93acf0" }
  : { theme: "light", ground: "#fbf9f4", ink: "#2a2f33", bar: "#f3efe6", accent: "#34509f" };

const page = document.createElement("rapi-doc");
const settings: Record<string, string> = {
  theme: look.theme,
  "bg-color": look.ground,
  "text-color": look.ink,
  "nav-bg-color": look.bar,
  "primary-color": look.accent,
  "regular-font": "'Inter Variable', system-ui, sans-serif",
  "mono-font": "'JetBrains Mono Variable', ui-monospace, monospace",
  "load-fonts": "false",
  "render-style": "focused",
  "schema-style": "table",
  "show-header": "false",
  "allow-server-selection": "false",
  "allow-authentication": "false",
  "allow-spec-file-download": "false",
};
for (const [name, value] of Object.entries(settings)) page.setAttribute(name, value);
page.innerHTML = `<p slot="nav-logo"><a href="/" style="color: inherit">Yarn Loom</a></p>`;
const session = sessionHeaders();
for (const [name, value] of Object.entries(session)) {
  page.setAttribute("api-key-name", name);
  page.setAttribute("api-key-location", "header");
  page.setAttribute("api-key-value", value);
}
// The viewer itself sends no session, so the description is fetched for it.
void fetch("/api/v1/openapi.json", { headers: session }).then(async (answer) => {
  if (answer.ok) {
    (page as unknown as { loadSpec: (spec: unknown) => void }).loadSpec(await answer.json());
  } else {
    page.replaceWith(
      "Sign in first: ",
      Object.assign(document.createElement("a"), {
        href: "/",
        textContent: "the console",
      }),
    );
  }
});
void fetch("/api/v1/service", { headers: session }).then(async (answer) => {
  if (!answer.ok) return;
  const service = (await answer.json()) as { version: string; data: string };
  const said = document.createElement("small");
  said.slot = "nav-logo";
  said.textContent = `${service.version} · ${location.host} · data in ${service.data}`;
  page.append(said);
});
document.body.style.cssText = `margin: 0; background: ${look.ground}; color: ${look.ink}`;
document.body.append(page);
