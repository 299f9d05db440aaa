<script lang="ts">
  // Takes a second factor, or takes it away.
  import { Button, Input, Label } from "../../lib/ui";
  import { api, take, type Problem, type Schemas } from "../../api/client";
  import { problemOf } from "../../lib/loader.svelte";
  import Trouble from "../../lib/Trouble.svelte";
  let { has, done }: { has: boolean; done: () => void } = $props();
  let password = $state("");
  let code = $state("");
  let offered = $state<Schemas["SecondFactor"]>();
  let problem = $state<Problem>();

  async function submit(e: SubmitEvent) {
    e.preventDefault();
    problem = undefined;
    try {
      if (!has && !offered) {
        offered = await take(api.POST("/session/second-factor", { body: { password } }));
        return;
      }
      await take(
        api.PUT("/session/second-factor", { body: { password, secret: offered?.secret ?? "", code } })
      );
      password = code = "";
      offered = undefined;
      done();
    } catch (e) {
      problem = problemOf(e);
    }
  }
</script>

<Trouble {problem} />
<p class="mb-3 max-w-xl text-sm text-gray-600 dark:text-gray-400">
  {has
    ? "A code is asked for when you sign in. To take that away, show a code once more."
    : "An app on your telephone shows a code that is asked for when you sign in, besides your password."}
</p>
<form onsubmit={submit} class="max-w-sm space-y-3">
  {#if offered}
    <img
      src={offered.picture}
      alt="the second factor as a QR code"
      class="rounded border border-gray-200 bg-white p-2 dark:border-gray-700" />
    <p class="text-sm">
      Read it with the app, or type the secret there: <code class="font-mono break-all select-all"
        >{offered.secret}</code>
    </p>
  {:else}
    <Label
      >Your password<Input
        id="second-password"
        class="mt-1"
        type="password"
        autocomplete="current-password"
        required
        bind:value={password} /></Label>
  {/if}
  {#if has || offered}<Label
      >Code that the app shows<Input
        id="second-code"
        class="mt-1"
        inputmode="numeric"
        autocomplete="one-time-code"
        required
        bind:value={code} /></Label
    >{/if}
  <Button type="submit" size="sm" color={has ? "alternative" : "primary"}
    >{has ? "Have no second factor" : offered ? "Take it" : "Have a second factor …"}</Button>
</form>
