<script lang="ts">
  // What happened since the last visit with this browser.
  import BellOutline from "flowbite-svelte-icons/BellOutline.svelte";
  import { api, take, type Schemas } from "../api/client";
  import { whenChanged } from "./live";
  import { Loader } from "./loader.svelte";
  import State from "./State.svelte";
  import When from "./When.svelte";

  const key = "ambercellar-seen";
  const shown = 30;
  let open = $state(false);
  let seen = $state(Number(localStorage.getItem(key) ?? -1)); // the newest that was looked at; -1: never here
  let before = $state(0); // what was seen when the list was opened
  let button = $state<HTMLButtonElement>();
  const news = new Loader(() => take(api.GET("/news", { params: { query: { limit: shown } } })));
  let items = $derived(news.data?.items ?? []);
  let fresh = $derived(items.filter((n) => n.seq > seen).length);
  let said = $derived(
    fresh === 0 ? "nothing new" : fresh === shown ? `${shown} or more new` : `${fresh} new`
  );

  function remember() {
    seen = items[0]?.seq ?? Math.max(seen, 0);
    localStorage.setItem(key, String(seen));
  }
  async function look() {
    await news.load();
    if (seen < 0 && news.data) remember(); // on the first visit, nothing is new
  }
  $effect(() => whenChanged(look));
  function turn() {
    open = !open;
    if (!open) return;
    before = seen;
    remember();
  }
  function close() {
    open = false;
    button?.focus();
  }
  const isNew = (n: Schemas["News"]) => n.seq > before;
</script>

<svelte:window onkeydown={(e) => open && e.key === "Escape" && close()} onhashchange={() => (open = false)} />
<button
  bind:this={button}
  class="relative rounded p-1 text-gray-600 hover:bg-gray-100 dark:text-gray-300 dark:hover:bg-gray-700"
  aria-expanded={open}
  aria-label="What is new: {said}"
  title={said}
  onclick={turn}
  ><BellOutline class="h-5 w-5" aria-hidden="true" />
  {#if fresh}<span
      aria-hidden="true"
      class="absolute -end-1.5 -top-1 rounded-full bg-red-700 px-1 text-[10px] font-semibold text-white"
      >{fresh === shown ? `${shown}+` : fresh}</span
    >{/if}</button>
{#if open}
  <section
    aria-label="What is new"
    class="fixed start-48 top-2 z-20 flex max-h-[85vh] w-[30rem] flex-col rounded-lg border border-gray-200 bg-white
      text-sm font-normal shadow-lg dark:border-gray-700 dark:bg-gray-800">
    <div class="flex items-baseline justify-between border-b border-gray-200 px-4 py-2 dark:border-gray-700">
      <h2 class="font-semibold">What is new</h2>
      <button class="text-link" onclick={close}>Close</button>
    </div>
    <ul class="overflow-y-auto">
      {#each items as n (n.seq)}
        <li class="border-b border-gray-100 px-4 py-2 last:border-0 dark:border-gray-700/60">
          <a class="text-link {isNew(n) ? 'font-semibold' : ''}" href={n.address}>{n.title}</a>
          <div class="mt-0.5 flex items-center gap-2 text-xs text-gray-500 dark:text-gray-400">
            <When at={n.at} />
            {#if n.severity}<State state={n.severity} />{/if}
            {#if isNew(n)}<span class="text-amber-800 dark:text-amber-300">since your last visit</span>{/if}
          </div>
        </li>
      {:else}<li class="px-4 py-6 text-center text-gray-500 dark:text-gray-400">Nothing has happened yet.</li>
      {/each}
    </ul>
  </section>
{/if}
