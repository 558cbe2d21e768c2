//! The build of a town as a job of an engine: an indexed job of Kubernetes, an array of a batch scheduler, or a matrix of a CI
//! system. Each part builds with `town build --shard auto`; the engine starts parts and repeats those that die.

use std::fmt::Write;

/// What a job is made from.
#[derive(Debug, Clone)]
pub struct TownJob {
    /// The file of the town, as the job sees it.
    pub town: String,
    /// How many parts.
    pub shards: u32,
    /// The image with this program.
    pub image: String,
    /// Processors of a part.
    pub cpus: u32,
    /// Memory of a part, in MiB.
    pub memory: u64,
    /// How often a part is begun again that dies.
    pub retries: u32,
    /// Where step results are shared.
    pub shared: Option<String>,
    /// Whether images are pushed to the registry of the town.
    pub push: bool,
    /// The name of what holds the secrets.
    pub secret: String,
}

/// Variables with secrets that a part may need; they are only ever named.
const SECRETS: [&str; 3] = ["AWS_ACCESS_KEY_ID", "AWS_SECRET_ACCESS_KEY", "SHTETL_SHARED_KEY"];

/// A file of a job: its name and text.
pub type JobFile = (&'static str, String);

impl TownJob {
    fn build(&self, shard: &str, result: &str) -> String {
        let push = if self.push { " --push" } else { "" };
        format!("shtetl town build --town {} --shard {shard} --result {result}{push}", quoted(&self.town))
    }

    /// An indexed job, and one that gathers (Kubernetes, batch/v1).
    pub fn kubernetes(&self) -> Vec<JobFile> {
        let Self { shards, image, cpus, memory, retries, secret, .. } = self;
        let mut env = String::new();
        if let Some(shared) = &self.shared {
            let _ = writeln!(env, "            - {{ name: SHTETL_SHARED, value: {} }}", yaml(shared));
        }
        for name in SECRETS {
            let _ = write!(
                env,
                "            - name: {name}\n              valueFrom: {{ secretKeyRef: {{ name: {secret}, key: {name}, optional: true }} }}\n"
            );
        }
        let build = self.build("auto", "results/$JOB_COMPLETION_INDEX.json");
        let command = format!("mkdir -p results && {build} --shards {shards}");
        let container = |name: &str, command: &str, env: &str| {
            format!(
                "          image: {}\n          name: {name}\n          workingDir: /town\n          command: [sh, -c, {}]\n{env}          \
                 resources:\n            requests: {{ cpu: \"{cpus}\", memory: {memory}Mi }}\n            limits: {{ memory: {memory}Mi }}\n          \
                 securityContext:\n            allowPrivilegeEscalation: false\n            capabilities: {{ drop: [ALL] }}\n            \
                 runAsNonRoot: true\n            runAsUser: 1000\n          volumeMounts:\n            - {{ name: town, mountPath: /town }}\n            \
                 - {{ name: store, mountPath: /store }}\n",
                yaml(image),
                yaml(command)
            )
        };
        let env = format!(
            "          env:\n            - {{ name: HOME, value: /store }}\n            - {{ name: SHTETL_STORE, value: /store/shtetl }}\n{env}"
        );
        let volumes = "      volumes:\n        # The files of the town; parts write to its folder `results`.\n        - name: town\n          \
                       persistentVolumeClaim: { claimName: town }\n        - name: store\n          emptyDir: {}\n";
        let build = format!(
            "# Builds a town in {shards} parts. A part that dies is started again, at most {retries} times.\n\
             # The claim `town` holds its files; the secret `{secret}` holds what the variables below name, as far as it is needed.\n\
             apiVersion: batch/v1\nkind: Job\nmetadata:\n  name: town-build\nspec:\n  completionMode: Indexed\n  completions: {shards}\n  \
             parallelism: {shards}\n  backoffLimitPerIndex: {retries}\n  \
             # Apps that fail do not get better by building them again.\n  podFailurePolicy:\n    rules:\n      - action: FailIndex\n        \
             onExitCodes: {{ containerName: part, operator: In, values: [1, 2] }}\n  ttlSecondsAfterFinished: 86400\n  template:\n    spec:\n      \
             restartPolicy: Never\n      containers:\n        -\n{}{volumes}",
            container("part", &command, &env)
        );
        let gather = format!(
            "# Combines the results of all parts; apply it when town-build has completed or failed.\n\
             apiVersion: batch/v1\nkind: Job\nmetadata:\n  name: town-gather\nspec:\n  backoffLimit: 0\n  ttlSecondsAfterFinished: 86400\n  \
             template:\n    spec:\n      restartPolicy: Never\n      containers:\n        -\n{}{volumes}",
            container("gather", "shtetl town gather results/*.json", &env)
        );
        vec![("town-build.yaml", build), ("town-gather.yaml", gather)]
    }

    /// An array of jobs, and a job that gathers when all of them have ended.
    pub fn slurm(&self) -> Vec<JobFile> {
        let Self { shards, cpus, memory, retries, shared, .. } = self;
        let last = shards.saturating_sub(1);
        let shared = match shared {
            Some(shared) => format!("export SHTETL_SHARED={}\n", quoted(shared)),
            None => String::new(),
        };
        let build = format!(
            "#!/bin/sh\n# Builds a part of a town in {shards} parts; town-submit.sh submits all of them.\n#SBATCH --job-name=town-build\n#SBATCH --array=0-{last}\n\
             #SBATCH --cpus-per-task={cpus}\n#SBATCH --mem={memory}M\n#SBATCH --requeue\n#SBATCH --open-mode=append\n\
             #SBATCH --output=results/%a.log\nset -u\n\
             # Secrets come from the environment of who submits it.\n{shared}\
             # The scheduler begins a part again whose node dies; one whose program is killed is begun again here.\ntry=0\n\
             while :; do\n  {}\n  code=$?\n  try=$((try + 1))\n  [ \"$code\" -ge 128 ] && [ \"$try\" -le {retries} ] || exit \"$code\"\ndone\n",
            self.build("auto", "\"results/$SLURM_ARRAY_TASK_ID.json\"")
        );
        let submit = "#!/bin/sh\n# Submits the parts, and one job that gathers when all have ended.\nset -eu\nmkdir -p results\n\
                      parts=$(sbatch --parsable town-build.sh)\n\
                      sbatch --parsable --dependency=\"afterany:$parts\" --output=results/town.log --wrap 'shtetl town gather results/*.json'\n";
        vec![("town-build.sh", build), ("town-submit.sh", submit.to_owned())]
    }

    /// The parts as a list that matrices of CI systems take, and what each job and the last one run.
    pub fn ci(&self) -> Vec<JobFile> {
        let Self { shards, shared, .. } = self;
        let all: Vec<String> = (1..=*shards).map(|number| format!("\"{number}/{shards}\"")).collect();
        let shared = match shared {
            Some(shared) => format!("export SHTETL_SHARED={}\n", quoted(shared)),
            None => String::new(),
        };
        let build = format!(
            "#!/bin/sh\n# One job of the matrix: town-part.sh 3/{shards}. Its secrets come from the CI system, as variables.\n\
             # Keep the folder `results` of each job, and bring all of them to the last one.\nset -eu\nmkdir -p results\n{shared}{}\n",
            self.build("\"$1\"", "\"results/$(echo \"$1\" | tr / -).json\"")
        );
        let gather = "#!/bin/sh\n# The last job, whether the others failed or not.\nset -eu\nshtetl town gather results/*.json\n";
        vec![
            ("town-matrix.json", format!("{{ \"shard\": [{}] }}\n", all.join(", "))),
            ("town-part.sh", build),
            ("town-gather.sh", gather.to_owned()),
        ]
    }
}

/// A word for a shell.
fn quoted(text: &str) -> String {
    let is_plain = |c: char| c.is_ascii_alphanumeric() || "-_./:@=+".contains(c);
    if !text.is_empty() && text.chars().all(is_plain) {
        return text.to_owned();
    }
    format!("'{}'", text.replace('\'', "'\\''"))
}

/// A text for YAML, always in double quotes (YAML 1.2, 7.3.1).
fn yaml(text: &str) -> String {
    format!("\"{}\"", text.replace('\\', "\\\\").replace('"', "\\\""))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn job() -> TownJob {
        TownJob {
            town: "town.toml".to_owned(),
            shards: 8,
            image: "registry.example/tools/shtetl:1".to_owned(),
            cpus: 2,
            memory: 2048,
            retries: 3,
            shared: Some("s3:https://objects.example/steps".to_owned()),
            push: true,
            secret: "town".to_owned(),
        }
    }

    #[test]
    fn secrets_are_only_named_and_every_part_knows_which_it_is() {
        let [kubernetes, slurm, ci] = [job().kubernetes(), job().slurm(), job().ci()];
        let text = &kubernetes[0].1;
        assert!(
            text.contains("completions: 8") && text.contains("--shard auto") && text.contains("--shards 8")
        );
        assert!(text.contains("secretKeyRef: { name: town, key: AWS_SECRET_ACCESS_KEY, optional: true }"));
        assert!(slurm[0].1.contains("#SBATCH --array=0-7") && slurm[0].1.contains("--requeue"));
        assert!(ci[0].1.contains("\"8/8\"") && ci[1].1.contains("--shard \"$1\""));
    }

    #[test]
    fn words_are_quoted_where_they_have_to_be() {
        assert_eq!(quoted("a b'c"), "'a b'\\''c'");
        assert_eq!(yaml("say \"fog\""), "\"say \\\"fog\\\"\"");
    }
}
