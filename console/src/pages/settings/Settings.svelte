<script lang="ts">
  // What the service works on and within: sources, stores, what rules share, and who may come in.
  import { who } from "../../lib/who.svelte";
  import Page from "../../lib/Page.svelte";
  import Accounts from "./Accounts.svelte";
  import DeclaredFiles from "./DeclaredFiles.svelte";
  import Named from "./Named.svelte";
  import Sources from "./Sources.svelte";
  import Stores from "./Stores.svelte";

  let { params }: { params?: { part?: string } | null } = $props();
  const parts = [
    {
      id: "sources",
      page: Sources,
      text: "Sources",
      about: "The databases that rules work on, and the guard rails of each."
    },
    { id: "stores", page: Stores, text: "Stores", about: "Where archived rows lie." },
    {
      id: "shared",
      page: Named,
      text: "Keeps and schedules",
      about: "Named once, and used by any number of rules."
    },
    {
      id: "accounts",
      page: Accounts,
      text: "Accounts",
      about: "Who may come in: persons and services, and what each may do."
    },
    {
      id: "declared",
      page: DeclaredFiles,
      text: "Files",
      about: "What is declared in files, beside what is in force."
    }
  ];
  let shown = $derived(parts.filter((p) => p.id !== "accounts" || who.may("administer")));
  let part = $derived(parts.find((p) => p.id === params?.part) ?? parts[0]!);
</script>

<Page title="Settings" about={part.about}>
  <nav aria-label="Settings" class="mb-4 flex gap-1 border-b border-gray-200 dark:border-gray-700">
    {#each shown as p (p.id)}
      <a
        href="#/settings/{p.id}"
        aria-current={p.id === part.id ? "page" : undefined}
        class="px-3 py-1.5 text-sm {p.id === part.id
          ? 'border-b-2 border-primary-500 font-semibold'
          : 'text-gray-600 dark:text-gray-400'}">{p.text}</a>
    {/each}
  </nav>
  <part.page />
</Page>
