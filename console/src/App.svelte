<script lang="ts">
  import type { Component } from "svelte";
  import Router, { router } from "svelte-spa-router";
  import { wrap } from "svelte-spa-router/wrap";
  import { ThemeProvider } from "./lib/ui";
  import MoonOutline from "flowbite-svelte-icons/MoonOutline.svelte";
  import PauseOutline from "flowbite-svelte-icons/PauseOutline.svelte";
  import { api, onSignedOut, take, type Schemas } from "./api/client";
  import { places } from "./lib/places";
  import { toggleTheme } from "./lib/theme";
  import { who } from "./lib/who.svelte";
  import Bell from "./lib/Bell.svelte";
  import Freeze from "./lib/Freeze.svelte";
  import Fresh from "./lib/Fresh.svelte";
  import MustChange from "./pages/account/MustChange.svelte";
  import SignIn from "./pages/signin/SignIn.svelte";

  // A page is loaded when it is opened first.
  // eslint-disable-next-line @typescript-eslint/no-explicit-any -- pages take whatever their route has
  type Load = () => Promise<{ default: Component<any> }>;
  const later = (load: Load) => wrap({ asyncComponent: load });
  const fresh = (load: Load) => wrap({ component: Fresh as unknown as Component, props: { load } });
  const Overview = later(() => import("./pages/overview/Overview.svelte"));
  const routes = {
    "/": Overview,
    "/tables": later(() => import("./pages/tables/Tables.svelte")),
    "/tables/:source/:table": fresh(() => import("./pages/tables/TableDetail.svelte")),
    "/rules": later(() => import("./pages/rules/Rules.svelte")),
    "/rules/apply": later(() => import("./pages/rules/ApplyRules.svelte")),
    "/rules/new": fresh(() => import("./pages/rules/RuleBuilder.svelte")),
    "/rules/:rule": fresh(() => import("./pages/rules/RuleDetail.svelte")),
    "/rules/:rule/edit": fresh(() => import("./pages/rules/RuleBuilder.svelte")),
    "/schedule": later(() => import("./pages/schedule/Schedule.svelte")),
    "/queue": later(() => import("./pages/queue/Queue.svelte")),
    "/findings": later(() => import("./pages/findings/Findings.svelte")),
    "/notifications": later(() => import("./pages/notifications/Notifications.svelte")),
    "/history": later(() => import("./pages/history/History.svelte")),
    "/settings": later(() => import("./pages/settings/Settings.svelte")),
    "/settings/:part": later(() => import("./pages/settings/Settings.svelte")),
    "/start": later(() => import("./pages/start/Start.svelte")),
    "/account": later(() => import("./pages/account/MyAccount.svelte")),
    "/approvals": later(() => import("./pages/approvals/Approvals.svelte")),
    "/audit": later(() => import("./pages/audit/Audit.svelte")),
    "/service": later(() => import("./pages/service/Service.svelte")),
    "/holds": later(() => import("./pages/holds/Holds.svelte")),
    "/runs": later(() => import("./pages/runs/Runs.svelte")),
    "/runs/:run": fresh(() => import("./pages/runs/RunDetail.svelte")),
    "/archive": later(() => import("./pages/archive/Archive.svelte")),
    "/archive/:segment": fresh(() => import("./pages/archive/SegmentDetail.svelte")),
    "/search": later(() => import("./pages/search/Search.svelte")),
    "/disposals": later(() => import("./pages/disposals/Disposals.svelte")),
    "/restores": later(() => import("./pages/restores/Restores.svelte")),
    "/restores/request": later(() => import("./pages/restores/RequestRestore.svelte")),
    "*": Overview
  };
  // Tables and lists are read all day: less air than the library's defaults.
  const dense = {
    tableBodyRow: "border-gray-200 dark:border-gray-700",
    tableBodyCell: "px-3 py-1.5 first:ps-4 last:pe-4 font-normal text-gray-800 dark:text-gray-200",
    tableHeadCell: "px-3 py-2 first:ps-4 last:pe-4 font-medium normal-case text-gray-500 dark:text-gray-400"
  };

  let signedIn = $state<boolean>();
  let given = $state(""); // a password that was for signing in once
  let freezing = $state(false);
  onSignedOut(() => (signedIn = false));

  async function begin(session?: Schemas["Session"], password = "") {
    given = session?.must_change ? password : "";
    if (session) who.began(session);
    const token = location.hash.match(/^#token=(.+)$/)?.[1];
    if (token) {
      history.replaceState(null, "", "#/"); // the token must not stay in the address
      await take(api.POST("/session", { body: { token: decodeURIComponent(token) } })).catch(() => {});
    }
    signedIn = await take(api.GET("/session")).then(
      (s) => {
        who.session = s;
        return true;
      },
      () => false
    );
  }
  begin();

  let me = $derived(who.session);
  // Who sees single sources alone is offered no page that is about all.
  let place = $derived(
    places.filter((p) => (!p.right || who.maySomewhere(p.right)) && (!p.all || who.may("see")))
  );
  $effect(() => {
    if (signedIn && !who.may("see") && router.location === "/") location.hash = "#/tables";
  });
  async function signOut() {
    await take(api.DELETE("/session")).catch(() => {});
    signedIn = false;
  }
  function isHere(href: string) {
    const path = href.slice(1);
    return path === "/" ? router.location === "/" : router.location.startsWith(path);
  }
</script>

<ThemeProvider theme={dense}>
  {#if signedIn === false}
    <SignIn done={begin} />
  {:else if signedIn && me?.must_change}
    <MustChange password={given} done={begin} {signOut} />
  {:else if signedIn}
    <a
      href="#main"
      class="sr-only focus:not-sr-only focus:absolute focus:p-2"
      onclick={(e) => {
        e.preventDefault();
        document.getElementById("main")?.focus();
      }}>Skip to content</a>
    <div class="flex min-h-screen">
      <nav
        aria-label="Main"
        class="sticky top-0 z-20 flex h-screen w-48 shrink-0 flex-col
          overflow-y-auto border-e border-gray-200 bg-white px-2 py-4
          dark:border-gray-700 dark:bg-gray-800">
        <div class="mb-4 flex items-center justify-between px-1">
          <a href="#/" class="flex items-center gap-1.5 text-sm font-semibold whitespace-nowrap"
            ><img src="/icon.svg" alt="" class="h-6 w-6" />Amber Cellar</a
          ><Bell />
        </div>
        <ul class="mb-3 space-y-0.5">
          {#each place as p (p.href)}
            <li>
              <a
                href={p.href}
                aria-current={isHere(p.href) ? "page" : undefined}
                class="flex items-center gap-2.5 rounded px-2 py-1 text-sm {isHere(p.href)
                  ? 'bg-primary-100 font-semibold text-primary-900 dark:bg-primary-900 dark:text-primary-100'
                  : 'text-gray-700 hover:bg-gray-100 dark:text-gray-300 dark:hover:bg-gray-700'}">
                <p.icon class="h-4 w-4" aria-hidden="true" />{p.text}
              </a>
            </li>
          {/each}
        </ul>
        <div class="mt-auto space-y-0.5 text-sm text-gray-600 dark:text-gray-400">
          {#if who.maySomewhere("operate")}
            <button
              class="flex w-full items-center gap-2.5 rounded border border-red-300 px-2 py-1.5 text-red-700
              hover:bg-red-50 dark:border-red-800 dark:text-red-400 dark:hover:bg-red-950"
              onclick={() => (freezing = true)}
              ><PauseOutline class="h-4 w-4" aria-hidden="true" />Freeze …</button
            >{/if}
          <button
            class="flex w-full items-center gap-2.5 rounded px-2 py-1.5 hover:bg-gray-100 dark:hover:bg-gray-700"
            onclick={toggleTheme}><MoonOutline class="h-4 w-4" aria-hidden="true" />Light or dark</button>
          <a
            href="#/account"
            class="block rounded px-2 py-1.5 text-xs hover:bg-gray-100 dark:hover:bg-gray-700"
            title="who is signed in: my account"
            >{me?.actor === me?.role ? me?.actor : `${me?.actor}, ${me?.role}`}</a>
          <button
            class="w-full rounded px-2 py-1.5 text-left hover:bg-gray-100 dark:hover:bg-gray-700"
            onclick={signOut}>Sign out</button>
        </div>
      </nav>
      <main id="main" tabindex="-1" class="min-w-0 flex-1 px-6 py-5 outline-none">
        <Freeze bind:asking={freezing} />
        <Router {routes} restoreScrollState />
      </main>
    </div>
  {/if}
</ThemeProvider>
