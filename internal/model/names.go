package model

// role is what a tensor does in the network.
type role int

const (
	embedding role = iota
	positions
	tokenTypes
	embeddingNorm
	outputNorm
	output

	mixerNorm // before attention or the state, or after the sum
	feedForwardNorm
	postMixer
	postFeedForward

	queryRole
	keyRole
	valueRole
	queryKeyValue
	queryNorm
	keyNorm
	attentionOut
	sinks

	queryDown // what the vector for queries is made with, and that for keys and values (Latent)
	queryDownNorm
	queryUp
	latentDown
	latentNorm
	latentUp // keys and values of all heads together
	latentKeyUp
	latentValueUp

	gateRole
	upRole
	gateUp
	downRole
	activationRole // its parameters, each of them by its name after this
	router
	routerBias
	expertGate
	expertUp
	expertGateUp
	expertDown
	sharedGate
	sharedUp
	sharedGateUp
	sharedDown
	sharedSwitch

	stateIn
	stateConv
	stateParams
	stateStep
	stateFade
	stateSkip
	stateStepNorm
	stateInNorm
	stateOutNorm
	stateNorm
	stateOut
	deltaAll // query, key, value and gate by key heads
	deltaQueryKeyValue
	deltaGate
	deltaRates // both of the following by key heads
	deltaBeta
	deltaAlpha

	joinNext // of a prediction head
	nextNorm
	hiddenNorm
	predictorNorm
	predictorOutput

	headDense
	headNorm
	headOut

	towerPatch
	towerSecond // the same for a second frame
	towerClass
	towerPositions
	towerBefore
	towerAfter
	joinNorm // what makes rows of patches, one after the other
	joinFirst
	joinSecond
	joinMerge
	deepNorm
	deepFirst
	deepSecond

	altUpRole // what only streams have, each by its name after this
)

// names are the names of tensors by role, without ".weight"; %d is the number of the layer, and a second one that of the
// expert or head, where each has a tensor of its own.
type names map[role]string

// common are the names that most families have in GGUF files and in safetensors folders.
var common = map[string]names{
	"GGUF": {
		embedding: "token_embd", positions: "position_embd", tokenTypes: "token_types", embeddingNorm: "token_embd_norm", outputNorm: "output_norm", output: "output",
		mixerNorm: "blk.%d.attn_norm", feedForwardNorm: "blk.%d.ffn_norm", postMixer: "blk.%d.post_attention_norm", postFeedForward: "blk.%d.post_ffw_norm",
		queryRole: "blk.%d.attn_q", keyRole: "blk.%d.attn_k", valueRole: "blk.%d.attn_v", queryKeyValue: "blk.%d.attn_qkv", queryNorm: "blk.%d.attn_q_norm", keyNorm: "blk.%d.attn_k_norm",
		attentionOut: "blk.%d.attn_output", sinks: "blk.%d.attn_sinks",
		queryDown: "blk.%d.attn_q_a", queryDownNorm: "blk.%d.attn_q_a_norm", queryUp: "blk.%d.attn_q_b", latentDown: "blk.%d.attn_kv_a_mqa", latentNorm: "blk.%d.attn_kv_a_norm",
		latentUp: "blk.%d.attn_kv_b", latentKeyUp: "blk.%d.attn_k_b", latentValueUp: "blk.%d.attn_v_b",
		gateRole: "blk.%d.ffn_gate", upRole: "blk.%d.ffn_up", downRole: "blk.%d.ffn_down",
		router: "blk.%d.ffn_gate_inp", routerBias: "blk.%d.exp_probs_b", expertGate: "blk.%d.ffn_gate_exps", expertUp: "blk.%d.ffn_up_exps", expertDown: "blk.%d.ffn_down_exps",
		sharedGate: "blk.%d.ffn_gate_shexp", sharedUp: "blk.%d.ffn_up_shexp", sharedDown: "blk.%d.ffn_down_shexp", sharedSwitch: "blk.%d.ffn_gate_inp_shexp",
		stateIn: "blk.%d.ssm_in", stateConv: "blk.%d.ssm_conv1d", stateParams: "blk.%d.ssm_x", stateStep: "blk.%d.ssm_dt", stateFade: "blk.%d.ssm_a", stateSkip: "blk.%d.ssm_d",
		stateStepNorm: "blk.%d.ssm_dt_norm", stateInNorm: "blk.%d.ssm_b_norm", stateOutNorm: "blk.%d.ssm_c_norm", stateNorm: "blk.%d.ssm_norm", stateOut: "blk.%d.ssm_out",
		headDense: "cls", headOut: "cls.output",
		deltaQueryKeyValue: "blk.%d.attn_qkv", deltaGate: "blk.%d.attn_gate", deltaRates: "blk.%d.ssm_ba",
		joinNext: "blk.%d.nextn.eh_proj", nextNorm: "blk.%d.nextn.enorm", hiddenNorm: "blk.%d.nextn.hnorm", predictorNorm: "blk.%d.nextn.shared_head_norm", predictorOutput: "blk.%d.nextn.shared_head_head",
	},
	"safetensors": {
		embedding: "embed_tokens", outputNorm: "norm", output: "lm_head",
		mixerNorm: "layers.%d.input_layernorm", feedForwardNorm: "layers.%d.post_attention_layernorm",
		queryRole: "layers.%d.self_attn.q_proj", keyRole: "layers.%d.self_attn.k_proj", valueRole: "layers.%d.self_attn.v_proj", queryKeyValue: "layers.%d.self_attn.qkv_proj",
		queryNorm: "layers.%d.self_attn.q_norm", keyNorm: "layers.%d.self_attn.k_norm", attentionOut: "layers.%d.self_attn.o_proj", sinks: "layers.%d.self_attn.sinks",
		queryDown: "layers.%d.self_attn.q_a_proj", queryDownNorm: "layers.%d.self_attn.q_a_layernorm", queryUp: "layers.%d.self_attn.q_b_proj",
		latentDown: "layers.%d.self_attn.kv_a_proj_with_mqa", latentNorm: "layers.%d.self_attn.kv_a_layernorm", latentUp: "layers.%d.self_attn.kv_b_proj",
		gateRole: "layers.%d.mlp.gate_proj", upRole: "layers.%d.mlp.up_proj", gateUp: "layers.%d.mlp.gate_up_proj", downRole: "layers.%d.mlp.down_proj",
		router: "layers.%d.mlp.gate", routerBias: "layers.%d.mlp.gate.e_score_correction",
		expertGate: "layers.%d.mlp.experts.%d.gate_proj", expertUp: "layers.%d.mlp.experts.%d.up_proj", expertDown: "layers.%d.mlp.experts.%d.down_proj",
		sharedGate: "layers.%d.mlp.shared_experts.gate_proj", sharedUp: "layers.%d.mlp.shared_experts.up_proj", sharedDown: "layers.%d.mlp.shared_experts.down_proj",
		stateIn: "layers.%d.mamba.in_proj", stateConv: "layers.%d.mamba.conv1d", stateParams: "layers.%d.mamba.x_proj", stateStep: "layers.%d.mamba.dt", stateFade: "layers.%d.mamba.A_log",
		stateSkip: "layers.%d.mamba.D", stateStepNorm: "layers.%d.mamba.dt_layernorm", stateInNorm: "layers.%d.mamba.b_layernorm", stateOutNorm: "layers.%d.mamba.c_layernorm",
		stateNorm: "layers.%d.mamba.norm", stateOut: "layers.%d.mamba.out_proj",
		joinNext: "layers.%d.eh_proj", nextNorm: "layers.%d.enorm", hiddenNorm: "layers.%d.hnorm", predictorNorm: "layers.%d.shared_head.norm", predictorOutput: "layers.%d.shared_head.head",
	},
}
