"""The whole journey as a notebook: each part between the marks is a cell."""

# %% [markdown]
# # The whole journey in a notebook
# From the sample aircraft to a flown controller: check, trim, linearise, judge, close a loop, fly.

# %%
import dravik as dv

craft = dv.sample("tarn")
print(len(dv.audit(craft)), "findings of the audit")

# %% [markdown]
# ## Trim
# A trim shows itself as a table. Proved, it was flown hands off for a minute.

# %%
point = dv.trim(craft, airspeed="62 m/s", altitude="300 m")
point

# %%
dv.prove_trim(point).holds

# %% [markdown]
# Over a range of speeds:

# %%
from dravik.report import figure_histories, figure_poles, figure_sweep

sweep = dv.trim_sweep(craft, {"airspeed": "45:95:11 m/s"}, altitude="300 m")
figure_sweep(sweep)

# %% [markdown]
# ## Linear model and modes

# %%
model = dv.linearise(craft, point)
modes = model.modes()
modes

# %%
figure_poles(modes, title="Poles of the Tarn")

# %% [markdown]
# ## Handling qualities

# %%
dv.handling_qualities(craft, point, category="C")

# %% [markdown]
# ## A loop, and its margins

# %%
from dravik.loops import cut_loop, margins

held = dv.sample("tarn", laws=["pitch_hold"])
start = dv.trim(held, airspeed="62 m/s", altitude="300 m")
margins(cut_loop(held, start, "elevator_command"), delay="80 ms")

# %% [markdown]
# ## A flight

# %%
run = dv.fly(
    held, start=start, duration=20, record=["theta", "q", "elevator", "airspeed", "altitude"],
    controls={"theta_command": dv.step("3 deg", at=2)},
)  # fmt: skip
run

# %%
figure_histories(run, ["theta", "q", "elevator", "airspeed"])

# %% [markdown]
# Points are files, and go on from there:

# %%
dv.save_point(start, "cruise.json")
dv.load_point("cruise.json", held)
