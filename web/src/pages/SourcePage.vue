<script setup lang="ts">
import { computed, defineAsyncComponent, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'

import { ask, client, Problem, type Schemas } from '../api/client'
import { useAction } from '../composables/useAction'
import { useFocus } from '../composables/useFocus'
import { useLoad } from '../composables/useLoad'
import { useSession } from '../stores/session'
import { count } from '../words'

const CodeEditor = defineAsyncComponent(() => import('../components/CodeEditor.vue'))
const DiffView = defineAsyncComponent(() => import('../components/DiffView.vue'))
const route = useRoute()
const router = useRouter()
const session = useSession()
const { service, stage } = useFocus()

const { data, problem, reload } = useLoad(() => ask(client.GET('/services/{service}/source', { params: { path: { service: service.value } } })), { watch: () => service.value, topics: ['source'] })
const base = ref('')
/** What was edited and not committed, by file; null for one that is taken away. */
const edits = ref(new Map<string, string | null>())
const showDiff = ref(false)
const newName = ref<string | null>(null)
const texts = ref(new Map<string, string>())
const check = ref<Schemas['CheckResult'] | null>(null)
const cursor = ref(1)
const known = ref<Schemas['AssistResult'] | null>(null)
const message = ref('')
const conflict = ref<Schemas['Conflict'] | null>(null)
const { busy, problem: commitProblem, run } = useAction()
const { problem: fileProblem, run: load } = useAction()

const file = computed(() => String(route.query.file ?? data.value?.files.find((f) => f.path === 'rudmar.yaml')?.path ?? ''))
const line = computed(() => Number(route.query.line) || undefined)
const text = computed(() => (edits.value.has(file.value) ? (edits.value.get(file.value) ?? '') : texts.value.get(file.value)))
const gone = computed(() => edits.value.get(file.value) === null)
const diagnostics = computed(() => check.value?.diagnostics ?? data.value?.diagnostics ?? [])
const here = computed(() => diagnostics.value.filter((d) => d.file === file.value))
const becomes = computed(() => check.value?.becomes ?? [])
/** What the committed files become, to mark what the edit changes. */
const before = ref<Schemas['Becomes'][]>([])
const errors = computed(() => diagnostics.value.filter((d) => d.severity === 'error').length)
const stale = computed(() => edits.value.size > 0 && !!data.value && base.value !== data.value.head.hash)

/** The files by folder; a function's cases stand with the function. */
const folders = computed(() => {
  const groups = new Map<string, { path: string; name: string }[]>()
  const committed = data.value?.files ?? []
  const made = [...edits.value.keys()].filter((p) => !committed.some((f) => f.path === p)).map((path) => ({ path }))
  for (const f of [...committed, ...made].sort((a, b) => a.path.localeCompare(b.path))) {
    const function_ = /^(functions\/[^/]+)\/(.+)$/.exec(f.path)
    const folder = function_?.[1] ?? ''
    groups.set(folder, [...(groups.get(folder) ?? []), { path: f.path, name: function_?.[2] ?? f.path }])
  }
  return [...groups].map(([folder, files]) => ({ folder, files })).sort((a, b) => a.folder.localeCompare(b.folder))
})

function problemsOf(path: string): number {
  return diagnostics.value.filter((d) => d.file === path).length
}

watch(data, (d) => {
  if (!d || edits.value.size > 0) return // an edit stays on what it began with
  base.value = d.head.hash
  texts.value = new Map()
  void recheck()
})
watch(
  [file, data, texts],
  () => {
    const path = file.value
    if (!path || !data.value || texts.value.has(path) || !data.value.files.some((f) => f.path === path)) return
    void load(async () => {
      const got = await ask(client.GET('/services/{service}/source/file', { params: { path: { service: service.value }, query: { path } } }))
      texts.value = new Map(texts.value).set(path, got.binary ? '(not a text)' : got.text)
    })
  },
  { immediate: true },
)

function assist(at: number, column: number): Promise<Schemas['AssistResult']> {
  const body = { branch: data.value?.branch ?? '', stage: stage.value || undefined, file: file.value, line: at, column, files: Object.fromEntries(edits.value) }
  return ask(client.POST('/services/{service}/source/assist', { params: { path: { service: service.value } }, body }))
}

let looking = 0
async function look(at: number, column: number): Promise<void> {
  cursor.value = at
  if (!file.value.endsWith('.yaml')) return
  const mine = ++looking
  try {
    const got = await assist(at, column)
    if (mine === looking) known.value = got
  } catch {
    known.value = null // the page itself says when there is no answer
  }
}
watch(file, () => (known.value = null))

let checking = 0
async function recheck(): Promise<void> {
  if (!data.value) return
  const mine = ++checking
  try {
    const got = await ask(client.POST('/services/{service}/source/check', { params: { path: { service: service.value } }, body: { branch: data.value.branch, stage: stage.value || undefined, files: Object.fromEntries(edits.value) } }))
    if (mine !== checking) return
    check.value = got
    if (edits.value.size === 0) before.value = got.becomes
  } catch (e) {
    if (mine === checking && e instanceof Problem) commitProblem.value = e
  }
}
let timer: ReturnType<typeof setTimeout> | undefined
function change(now: string): void {
  if (gone.value) return // the editor is emptied, not the file
  const next = new Map(edits.value)
  if (now === texts.value.get(file.value)) next.delete(file.value)
  else next.set(file.value, now)
  edited(next)
}
function edited(next: Map<string, string | null>): void {
  edits.value = next
  clearTimeout(timer)
  timer = setTimeout(() => void recheck(), 200)
}

/** Makes a function from a starter, as an edit that is not committed yet. */
function addFunction(): Promise<boolean> {
  return run(async () => {
    const name = newName.value ?? ''
    const files = await ask(client.GET('/services/{service}/source/starter', { params: { path: { service: service.value }, query: { name, runtime: 'python' } } }))
    edited(new Map([...edits.value, ...Object.entries(files)]))
    newName.value = null
    open(`functions/${name}/function.yaml`)
  })
}
function takeAway(): void {
  const next = new Map(edits.value)
  if (data.value?.files.some((f) => f.path === file.value)) next.set(file.value, null)
  else next.delete(file.value)
  edited(next)
}
function bringBack(): void {
  const next = new Map(edits.value)
  next.delete(file.value)
  edited(next)
}
watch(stage, async () => {
  // What is committed becomes something else in another stage.
  if (data.value && edits.value.size > 0) {
    const got = await ask(client.POST('/services/{service}/source/check', { params: { path: { service: service.value } }, body: { branch: data.value.branch, stage: stage.value || undefined, files: {} } })).catch(() => null)
    before.value = got?.becomes ?? []
  }
  await recheck()
})

function open(path: string, at?: number): void {
  void router.push({ query: { stage: stage.value || undefined, file: path, line: at } })
}

function commit(onto: string): Promise<boolean> {
  return run(async () => {
    if (!data.value) return
    conflict.value = null
    const sent = await client.POST('/services/{service}/source/commits', { params: { path: { service: service.value } }, body: { branch: data.value.branch, base: onto, message: message.value, files: Object.fromEntries(edits.value) } })
    if (sent.response.status === 409) {
      conflict.value = sent.error as Schemas['Conflict']
      return
    }
    await ask(Promise.resolve(sent))
    edits.value = new Map()
    message.value = ''
    await reload()
  })
}

/** Keeps one's own text, on top of what somebody else committed. */
function keepMine(): void {
  if (conflict.value) void commit(conflict.value.head)
}
async function drop(): Promise<void> {
  edits.value = new Map()
  conflict.value = null
  texts.value = new Map()
  await reload()
}
</script>

<template>
  <div class="page source">
    <ProblemNote :problem="problem" />
    <div v-if="data" class="grid">
      <nav class="files sheet" aria-label="Files">
        <form v-if="newName !== null" class="px-2 pb-1" @submit.prevent="addFunction">
          <input v-model="newName" class="form-control mb-1" required pattern="[a-z][a-z0-9\-]{0,39}" placeholder="its name" aria-label="Name of the new function" autofocus />
          <button class="btn btn-sm btn-primary me-1" :disabled="busy">Make it</button>
          <button type="button" class="btn btn-sm btn-outline-secondary" @click="newName = null">No</button>
        </form>
        <button v-else-if="session.may('write')" type="button" class="btn btn-link btn-sm" @click="newName = ''">New function…</button>
        <template v-for="g in folders" :key="g.folder">
          <p v-if="g.folder" class="folder clip" :title="g.folder">{{ g.folder }}</p>
          <button v-for="f in g.files" :key="f.path" type="button" class="file" :class="{ at: f.path === file, inside: g.folder }" :aria-current="f.path === file || undefined" @click="open(f.path)">
            <span class="clip" :title="f.path">{{ f.name }}</span>
            <span v-if="edits.has(f.path)" class="move">{{ edits.get(f.path) === null ? 'goes' : data.files.some((c) => c.path === f.path) ? 'edited' : 'new' }}</span>
            <span v-if="problemsOf(f.path)" class="bad">{{ count(problemsOf(f.path), 'problem') }}</span>
          </button>
        </template>
      </nav>
      <section class="middle">
        <div class="page-head mb-1">
          <h1 class="path" :class="{ 'text-decoration-line-through': gone }">{{ file }}</h1>
          <span class="quiet">{{ data.branch }} at <code>{{ base.slice(0, 8) }}</code><template v-if="data.taken">, taken by a stage</template></span>
          <span v-if="errors" class="bad">{{ count(errors, 'error') }} in all</span>
          <span v-else class="good">no errors</span>
          <button v-if="gone" type="button" class="btn btn-link p-0" @click="bringBack">bring it back</button>
          <button v-else-if="session.may('write')" type="button" class="btn btn-link p-0" @click="takeAway">take away</button>
        </div>
        <ProblemNote :problem="fileProblem" />
        <div class="edit sheet">
          <CodeEditor v-if="text !== undefined" :key="file" :file="file" :text="text" :diagnostics="here" :readonly="!session.may('write') || gone" :line="line" :assist="assist" @change="change" @line="look" />
        </div>
        <ul v-if="here.length" class="problems" aria-label="Problems in this file">
          <li v-for="(d, i) in here" :key="i">
            <button type="button" class="btn btn-link p-0" @click="open(file, d.line)">{{ d.line }}:{{ d.column }}</button>
            &nbsp;<span :class="d.severity === 'error' ? 'bad' : 'wait'">{{ d.severity }}</span> {{ d.message }} <span class="quiet">{{ d.code }}</span>
          </li>
        </ul>
        <LineNotes v-if="file.endsWith('.yaml')" :notes="known?.notes ?? []" :about="known?.about ?? ''" :service="service" :branch="data.branch" :stage="stage" :files="Object.fromEntries(edits)" @open="open" />
        <ProblemNote :problem="commitProblem" />
        <div v-if="conflict" class="sheet sheet-pad mb-2" role="alert">
          <p class="mb-1"><strong class="wait">{{ conflict.detail }}</strong> Nothing of yours is lost: it stands in the editor.</p>
          <details v-for="(theirs, path) in conflict.theirs" :key="path"><summary>{{ path }} as {{ conflict.by }} left it</summary><pre class="block">{{ theirs }}</pre></details>
          <button type="button" class="btn btn-sm btn-primary me-2 mt-2" @click="keepMine">Commit mine on top of it</button>
          <button type="button" class="btn btn-sm btn-outline-secondary mt-2" @click="drop">Take theirs, drop my edit</button>
        </div>
        <div v-if="showDiff && edits.size" class="diffs">
          <DiffView v-for="[path, now] in edits" :key="path" :title="path" :before="texts.get(path) ?? ''" :after="now ?? ''" />
        </div>
        <form v-if="edits.size" class="commit" @submit.prevent="commit(base)">
          <input v-model="message" class="form-control" required placeholder="What this changes, and for whom" aria-label="Message" />
          <button class="btn btn-primary text-nowrap" :disabled="busy || !session.may('write')">Commit {{ count(edits.size, 'file') }}</button>
          <button type="button" class="btn btn-outline-secondary text-nowrap" :aria-pressed="showDiff" @click="showDiff = !showDiff">{{ showDiff ? 'Hide' : 'Show' }} the differences</button>
          <button type="button" class="btn btn-outline-secondary text-nowrap" @click="drop">Drop the edit</button>
          <span v-if="stale" class="wait text-nowrap">the branch has moved on</span>
        </form>
        <p v-else-if="!session.may('write')" class="quiet mb-0">Your role reads; an author writes.</p>
      </section>
      <aside>
        <BecomesList :becomes="becomes" :before="edits.size ? before : becomes" :stage="stage" :file="file" :line="cursor" @open="open" />
      </aside>
    </div>
  </div>
</template>

<style scoped>
.grid {
  display: grid;
  grid-template-columns: 15rem minmax(0, 1fr) 21rem;
  gap: 1rem;
  height: calc(100vh - 12.4rem);
  min-height: 26rem;
}
.files {
  overflow: auto;
  padding: 0.3rem 0;
}
.file {
  display: flex;
  justify-content: space-between;
  gap: 0.4rem;
  width: 100%;
  border: 0;
  background: none;
  color: inherit;
  text-align: left;
  padding: 0.12rem 0.7rem;
  font-size: 0.8125rem;
}
.file.inside {
  padding-left: 1.3rem;
}
.folder {
  margin: 0.3rem 0 0;
  padding: 0 0.7rem;
  font-size: 0.8125rem;
  color: var(--quiet);
}
.file span + span {
  flex: none;
}
.file:hover {
  background: var(--wash);
}
.file.at {
  background: color-mix(in srgb, var(--fjord) 14%, transparent);
}
.middle {
  display: flex;
  flex-direction: column;
  min-height: 0;
}
.path {
  font-size: 1rem;
}
.edit {
  flex: 1;
  min-height: 0;
  overflow: hidden;
}
.problems {
  list-style: none;
  margin: 0.4rem 0 0;
  padding: 0;
  max-height: 8rem;
  overflow: auto;
}
.diffs {
  overflow: auto;
  max-height: 45%;
  margin-top: 0.5rem;
}
.commit {
  display: flex;
  gap: 0.5rem;
  align-items: center;
  margin-top: 0.5rem;
}
aside {
  overflow: auto;
}
</style>
