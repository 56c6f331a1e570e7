<script setup lang="ts">
import { computed, defineAsyncComponent, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'

import { ask, client, Problem, type Schemas } from '../api/client'
import { useAction } from '../composables/useAction'
import { type Draft, readDraft, useDraft } from '../composables/useDraft'
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
/** The requested branch; the main one by default. */
const wanted = computed(() => (typeof route.query.branch === 'string' ? route.query.branch : undefined))

const { data, problem, pending, reload } = useLoad(
  () =>
    ask(
      client.GET('/services/{service}/source', {
        params: { path: { service: service.value }, query: { branch: wanted.value } },
      }),
    ),
  { watch: () => `${service.value} ${wanted.value ?? ''}`, topics: ['source'] },
)
const base = ref('')
/** A new branch for the commit; empty for the open branch. */
const newBranch = ref('')
/** Uncommitted edits, by file; null for a deleted one. */
const edits = ref(new Map<string, string | null>())
const showDiff = ref(false)
const newName = ref<string | null>(null)
const texts = ref(new Map<string, string>())
const check = ref<Schemas['CheckResult'] | null>(null)
const cursor = ref(1)
const known = ref<Schemas['AssistResult'] | null>(null)
const message = ref('')
const conflict = ref<Schemas['Conflict'] | null>(null)
/** Merged files with conflicts to resolve. */
const unresolved = ref<string[]>([])
const { busy, problem: commitProblem, run } = useAction()
const {
  leaving,
  full,
  drop: dropDraft,
} = useDraft(edits, () => ({
  service: service.value,
  branch: data.value?.branch ?? '',
  person: session.person?.username ?? '',
  base: base.value,
  message: message.value,
}))
/** A stored uncommitted edit, which is offered again. */
const draft = ref<Draft | null>(null)
function takeUp(): void {
  if (!draft.value) return
  base.value = draft.value.base
  message.value = draft.value.message
  const files = draft.value.files
  draft.value = null
  void Promise.all(files.map(([path]) => fetchText(path))).finally(() => edited(new Map(files)))
}
function forget(): void {
  draft.value = null
  dropDraft()
}
const { problem: fileProblem, run: load } = useAction()

const file = computed(() =>
  String(route.query.file ?? data.value?.files.find((f) => f.path === 'rudmar.yaml')?.path ?? ''),
)
const line = computed(() => Number(route.query.line) || undefined)
const text = computed(() =>
  edits.value.has(file.value) ? (edits.value.get(file.value) ?? '') : texts.value.get(file.value),
)
const gone = computed(() => edits.value.get(file.value) === null)
const diagnostics = computed(() => check.value?.diagnostics ?? data.value?.diagnostics ?? [])
const here = computed(() => diagnostics.value.filter((d) => d.file === file.value))
const showHistory = ref(false)
const newRuntime = ref('python')
/** The function of the open file, and its new name. */
const owner = computed(() => /^functions\/([^/]+)\//.exec(file.value)?.[1] ?? '')
const renamed = ref<string | null>(null)
const errors = computed(() => diagnostics.value.filter((d) => d.severity === 'error').length)
/** The commit's branch accepts no commit with errors. */
const refused = computed(() => errors.value > 0 && !!data.value?.tracked && !newBranch.value)
const stale = computed(() => edits.value.size > 0 && !!data.value && base.value !== data.value.head.hash)

watch(data, (d) => {
  if (!d || edits.value.size > 0) return // an edit stays on its base
  draft.value = readDraft(service.value, d.branch, session.person?.username ?? '')
  base.value = d.head.hash
  texts.value = new Map()
  if (route.query.take && draft.value) {
    showDiff.value = true // it was created elsewhere, so the user reads it before the commit
    takeUp()
    void router.replace({ query: { ...route.query, take: undefined } })
  } else void recheck()
})
watch(
  [file, data, texts],
  () => {
    const path = file.value
    if (!path || !data.value || texts.value.has(path) || !data.value.files.some((f) => f.path === path)) return
    void load(() => fetchText(path))
  },
  { immediate: true },
)

async function fetchText(path: string): Promise<void> {
  if (texts.value.has(path) || !data.value?.files.some((f) => f.path === path)) return
  const got = await ask(
    client.GET('/services/{service}/source/file', {
      params: { path: { service: service.value }, query: { path, branch: data.value.branch } },
    }),
  )
  texts.value = new Map(texts.value).set(path, got.binary ? '(binary file)' : got.text)
}

function assist(at: number, column: number): Promise<Schemas['AssistResult']> {
  const body = {
    branch: data.value?.branch ?? '',
    stage: stage.value || undefined,
    file: file.value,
    line: at,
    column,
    files: Object.fromEntries(edits.value),
  }
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
    known.value = null // the page itself reports an unreachable server
  }
}
watch(file, () => {
  known.value = null
  renamed.value = null
  void recheck()
})

let checking = 0
async function recheck(): Promise<void> {
  if (!data.value) return
  const mine = ++checking
  try {
    const got = await ask(
      client.POST('/services/{service}/source/check', {
        params: { path: { service: service.value } },
        body: {
          branch: data.value.branch,
          stage: stage.value || undefined,
          file: file.value,
          files: Object.fromEntries(edits.value),
        },
      }),
    )
    if (mine === checking) check.value = got
  } catch (e) {
    if (mine === checking && e instanceof Problem) commitProblem.value = e
  }
}
let timer: ReturnType<typeof setTimeout> | undefined
function change(now: string): void {
  if (gone.value) return // the editor was emptied, not the file
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

/** Creates a function from a starter, as an uncommitted edit. */
function addFunction(): Promise<boolean> {
  return run(async () => {
    const name = newName.value ?? ''
    const files = await ask(
      client.GET('/services/{service}/source/starter', {
        params: { path: { service: service.value }, query: { name, runtime: newRuntime.value } },
      }),
    )
    edited(new Map([...edits.value, ...Object.entries(files)]))
    newName.value = null
    open(`functions/${name}/function.yaml`)
  })
}
/** Renames the function of the open file everywhere, as an edit. */
function rename(): Promise<boolean> {
  return run(async () => {
    const [from, to] = [owner.value, renamed.value ?? '']
    const body = { branch: data.value?.branch ?? '', function: from, to, files: Object.fromEntries(edits.value) }
    const files = await ask(
      client.POST('/services/{service}/source/rename', { params: { path: { service: service.value } }, body }),
    )
    await Promise.all(Object.keys(files).map((path) => fetchText(path))) // for the diff
    edited(new Map(Object.entries(files)))
    renamed.value = null
    const now = file.value.replace(`functions/${from}/`, `functions/${to}/`)
    if (now in files) open(now)
  })
}
/** Deletes the open file, or all files of its function. */
function deletions(all: boolean): void {
  const next = new Map(edits.value)
  const mine = (path: string) => path === file.value || (all && path.startsWith(`functions/${owner.value}/`))
  for (const path of [...next.keys()].filter(mine)) next.delete(path)
  for (const f of data.value?.files ?? []) if (mine(f.path)) next.set(f.path, null)
  edited(next)
}
function bringBack(): void {
  const next = new Map(edits.value)
  next.delete(file.value)
  edited(next)
}
watch(stage, () => void recheck())

function open(path: string, at?: number): void {
  void router.push({ query: { stage: stage.value || undefined, branch: wanted.value, file: path, line: at } })
}

function switchTo(branch: string): void {
  edits.value = new Map()
  void router.push({ query: { stage: stage.value || undefined, branch, file: file.value } })
}

function commit(on: string): Promise<boolean> {
  return run(async () => {
    if (!data.value) return
    conflict.value = null
    const sent = await client.POST('/services/{service}/source/commits', {
      params: { path: { service: service.value } },
      body: {
        branch: data.value.branch,
        newBranch: newBranch.value || undefined,
        base: on,
        message: message.value,
        files: Object.fromEntries(edits.value),
      },
    })
    if (sent.response.status === 409) {
      conflict.value = sent.error as Schemas['Conflict']
      return
    }
    await ask(Promise.resolve(sent))
    edits.value = new Map()
    unresolved.value = []
    message.value = ''
    if (newBranch.value) {
      const made = newBranch.value
      newBranch.value = ''
      switchTo(made)
      return
    }
    await reload()
  })
}

/** Puts the edit merged with the newer commits into the editor, on top of them. */
async function merge(): Promise<void> {
  const met = conflict.value
  if (!met) return
  const files = Object.entries(met.merged)
  conflict.value = null
  unresolved.value = met.conflicts
  await reload()
  base.value = met.head
  texts.value = new Map()
  await Promise.all(files.map(([path]) => fetchText(path)))
  edited(new Map(files.filter(([path, now]) => now === null || now !== texts.value.get(path))))
  showDiff.value = true
  const first = met.conflicts[0]
  if (first) open(first)
}
async function drop(): Promise<void> {
  edits.value = new Map()
  conflict.value = null
  unresolved.value = []
  texts.value = new Map()
  await reload()
}
</script>

<template>
  <div class="page source">
    <LeaveBox :answer="leaving" :what="count(edits.size, 'file')" />
    <ProblemNote :problem="problem" :again="reload" />
    <PageWait v-if="pending" :lines="14" />
    <p v-if="full" class="bad" role="alert">
      This browser has no space left for drafts. Commit the edit before you leave the page.
    </p>
    <div v-if="draft" class="sheet sheet-pad mb-2" role="status">
      Uncommitted draft of {{ count(draft.files.length, 'file') }} from <TimeAgo :at="draft.at" /><template
        v-if="data && draft.base !== data.head.hash"
        >; the branch has newer commits, and committing shows both</template
      >.
      <button type="button" class="btn btn-sm btn-primary ms-2" @click="takeUp">Restore draft</button>
      <button type="button" class="btn btn-sm btn-outline-secondary ms-2" @click="forget">Discard draft</button>
    </div>
    <div v-if="data" class="grid">
      <nav class="files sheet" aria-label="Files">
        <form v-if="newName !== null" class="px-2 pb-1" @submit.prevent="addFunction">
          <input
            v-model="newName"
            class="form-control mb-1"
            required
            pattern="[a-z][a-z0-9\-]{0,39}"
            placeholder="Name"
            aria-label="Name of the new function"
            autofocus
          />
          <select v-model="newRuntime" class="form-select mb-1" aria-label="Runtime of the new function">
            <option v-for="r in data.runtimes" :key="r">{{ r }}</option>
          </select>
          <button class="btn btn-sm btn-primary me-1" :disabled="busy">Create function</button>
          <button type="button" class="btn btn-sm btn-outline-secondary" @click="newName = null">Cancel</button>
        </form>
        <button v-else-if="session.may('write')" type="button" class="btn btn-link btn-sm" @click="newName = ''">
          New function…
        </button>
        <FileTree :committed="data.files" :edits="edits" :diagnostics="diagnostics" :file="file" @open="open" />
      </nav>
      <section class="middle">
        <div class="page-head mb-1">
          <h1 class="path" :class="{ 'text-decoration-line-through': gone }">{{ file }}</h1>
          <span class="quiet"
            ><select
              v-if="data.branches.length > 1"
              class="form-select d-inline-block w-auto"
              aria-label="Branch"
              :value="data.branch"
              :disabled="edits.size > 0"
              :title="edits.size ? 'Commit or discard the edit first' : undefined"
              @change="switchTo(($event.target as HTMLSelectElement).value)"
            >
              <option v-for="b in data.branches" :key="b">{{ b }}</option></select
            ><template v-else>{{ data.branch }}</template> at <code>{{ base.slice(0, 8) }}</code><template
              v-if="data.tracked"
              >, deployed by a stage</template
            ></span
          >
          <span v-if="errors" class="bad">{{ count(errors, 'error') }}</span>
          <span v-else class="good">no errors</span>
          <button v-if="gone" type="button" class="btn btn-link p-0" @click="bringBack">Restore file</button>
          <template v-else>
            <button
              type="button"
              class="btn btn-link p-0"
              :aria-expanded="showHistory"
              @click="showHistory = !showHistory"
            >
              history
            </button>
            <template v-if="session.may('write')">
              <button v-if="owner" type="button" class="btn btn-link p-0" @click="renamed = owner">
                Rename {{ owner }}
              </button>
              <button v-if="file !== 'rudmar.yaml'" type="button" class="btn btn-link p-0" @click="deletions(false)">
                Delete file
              </button>
              <button v-if="owner" type="button" class="btn btn-link p-0" @click="deletions(true)">
                Delete {{ owner }}
              </button>
            </template>
          </template>
        </div>
        <form v-if="renamed !== null" class="commit mb-2" @submit.prevent="rename">
          <label for="renamed" class="text-nowrap">New name of {{ owner }}</label>
          <input
            id="renamed"
            v-model="renamed"
            class="form-control"
            required
            pattern="[a-z][a-z0-9\-]{0,39}"
            autofocus
          />
          <button class="btn btn-primary" :disabled="busy || renamed === owner">Rename</button>
          <button type="button" class="btn btn-outline-secondary" @click="renamed = null">Cancel</button>
          <span class="quiet">as an edit; <code>renamed_from</code> keeps its data</span>
        </form>
        <ProblemNote :problem="fileProblem" />
        <div class="edit sheet">
          <CodeEditor
            v-if="text !== undefined"
            :key="file"
            :file="file"
            :text="text"
            :diagnostics="here"
            :readonly="!session.may('write') || gone"
            :line="line"
            :assist="assist"
            @change="change"
            @line="look"
          />
        </div>
        <ul v-if="here.length" class="problems" aria-label="Problems in this file">
          <li v-for="(d, i) in here" :key="i">
            <button type="button" class="btn btn-link p-0" @click="open(file, d.line)">
              {{ d.line }}:{{ d.column }}
            </button>
            &nbsp;<span :class="d.severity === 'error' ? 'bad' : 'wait'">{{ d.severity }}</span> {{ d.message }}
            <span class="quiet">{{ d.code }}</span>
          </li>
        </ul>
        <FileHistory v-if="showHistory" :service="service" :branch="data.branch" :file="file" />
        <LineNotes
          v-if="file.endsWith('.yaml')"
          :notes="known?.notes ?? []"
          :about="known?.description ?? ''"
          :service="service"
          :branch="data.branch"
          :stage="stage"
          :files="Object.fromEntries(edits)"
          @open="open"
        />
        <ProblemNote :problem="commitProblem" />
        <div v-if="conflict" class="sheet sheet-pad mb-2" role="alert">
          <p class="mb-1">
            <strong class="wait">{{ conflict.detail }}</strong> Your edit is kept in the editor.
          </p>
          <details v-for="(theirs, path) in conflict.theirs" :key="path">
            <summary>{{ path }} as committed by {{ conflict.by }}</summary>
            <pre class="block">{{ theirs }}</pre>
          </details>
          <p v-if="conflict.conflicts.length" class="mt-2 mb-0">
            Both of you changed the same lines of {{ conflict.conflicts.join(', ') }}. The merged text has both, between
            conflict markers.
          </p>
          <button type="button" class="btn btn-sm btn-primary me-2 mt-2" :disabled="busy" @click="merge">
            Merge into my edit
          </button>
          <button type="button" class="btn btn-sm btn-outline-secondary mt-2" @click="drop">
            Use theirs and discard my edit
          </button>
        </div>
        <p v-if="unresolved.length" class="wait" role="status">
          Resolve the conflicts in {{ unresolved.join(', ') }}: keep the lines that you want and delete the markers.
          Then commit.
        </p>
        <div v-if="showDiff && edits.size" class="diffs">
          <DiffView
            v-for="[path, now] in edits"
            :key="path"
            :title="path"
            sides="left: committed; right: your edit"
            :before="texts.get(path) ?? ''"
            :after="now ?? ''"
          />
        </div>
        <form v-if="edits.size" class="mt-2" @submit.prevent="commit(base)">
          <div class="commit">
            <input v-model="message" class="form-control" required placeholder="Commit message" aria-label="Message" />
            <input
              v-model="newBranch"
              class="form-control onto"
              pattern="[A-Za-z0-9][A-Za-z0-9._\/\-]*"
              :placeholder="`${data.branch}, or a new branch`"
              aria-label="New branch"
            />
          </div>
          <div class="commit">
            <button
              class="btn text-nowrap"
              :class="refused ? 'btn-outline-secondary' : 'btn-primary'"
              :disabled="busy || !session.may('write')"
            >
              Commit {{ count(edits.size, 'file') }}<template v-if="refused"> anyway</template>
            </button>
            <button
              type="button"
              class="btn btn-outline-secondary text-nowrap"
              :aria-pressed="showDiff"
              @click="showDiff = !showDiff"
            >
              {{ showDiff ? 'Hide' : 'Show' }} differences
            </button>
            <button type="button" class="btn btn-outline-secondary text-nowrap" @click="drop">Discard edit</button>
            <span v-if="refused" class="bad"
              >{{ data.branch }} refuses commits with errors; commit to a new branch instead</span
            >
            <span v-if="stale" class="wait text-nowrap">The branch has newer commits</span>
          </div>
        </form>
        <p v-else-if="!session.may('write')" class="quiet mb-0">Your role can view files but not edit them.</p>
      </section>
      <aside>
        <EditPlan
          v-if="data && (edits.size > 0 || !data.tracked) && stage"
          :service="service"
          :branch="data.branch"
          :stage="stage"
          :files="edits"
        />
        <RenderedResources
          v-if="check"
          :check="check"
          :edited="edits.size > 0"
          :broken="here.some((d) => d.severity === 'error')"
          :stage="stage"
          :file="file"
          :line="cursor"
          @open="open"
        />
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
.onto {
  max-width: 13rem;
}
aside {
  overflow: auto;
}
</style>
